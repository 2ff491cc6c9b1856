import { sql, type Kysely } from 'kysely'

/** With which plan new vessels begin here; one line. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table default_plan (one boolean primary key default true check (one), plan jsonb not null)`.execute(db)
}
