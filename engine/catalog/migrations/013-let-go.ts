import { sql, type Kysely } from 'kysely'

/** When a hold was first begun to be released, and by whom: what it held may be let go from then on. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table hold add column let_go_at timestamptz, add column let_go_by text`.execute(db)
}
