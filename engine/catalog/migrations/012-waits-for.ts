import { sql, type Kysely } from 'kysely'

/** Why a run that waits could not begin yet, when a worker looked at it last. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table run add column waits_for text`.execute(db)
}
