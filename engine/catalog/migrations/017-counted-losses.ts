import { sql, type Kysely } from 'kysely'

/** Whether the rows of a loss were counted: whoever wrote it down may have gone before. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table loss add column counted_at timestamptz`.execute(db)
  await sql`update loss set counted_at = found_at`.execute(db)
}
