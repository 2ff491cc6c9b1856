import { sql, type Kysely } from 'kysely'

/**
 * When a hold was first begun to be released, and by whom: what it held may be let go from then on. And no record of a
 * point that is known is about to be written: reading what was in one place only had left that behind, so that the record
 * would have been swept up.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table hold add column let_go_at timestamptz, add column let_go_by text`.execute(db)
  await sql`delete from announced_file a using point p where p.store_id = a.store_id and a.path = 'points/' || p.id || '.point'`.execute(db)
}
