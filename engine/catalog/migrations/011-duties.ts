import { sql, type Kysely } from 'kysely'

/** What one of all workers does at a time, and until when it does. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table duty (what text primary key, holder uuid not null, until timestamptz not null)`.execute(db)
}
