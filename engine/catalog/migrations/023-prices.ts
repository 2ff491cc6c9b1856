import { sql, type Kysely } from 'kysely'

/** What a store costs for each gigabyte and month, and for each that is read. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table store add column price jsonb`.execute(db)
}
