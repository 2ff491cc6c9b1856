import { sql, type Kysely } from 'kysely'

/** How members are quiesced, and up to where a log was read and held nothing more, under the names that the words have. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`update vessel_version set definition = definition - 'still' || jsonb_build_object('quiesce', definition->'still')
    where definition ? 'still'`.execute(db)
  await sql`update run set kind = 'hold', params = params - 'still' || jsonb_build_object('quiesce', params->'still')
    where kind = 'still'`.execute(db)
  await sql`alter table follower rename column still_position to caught_up_position`.execute(db)
  await sql`alter table follower rename column still_at to caught_up_at`.execute(db)
}
