import { sql, type Kysely } from 'kysely'

/** Why a vessel is paused, since when, until when and by whom. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table vessel add column pause jsonb`.execute(db)
  await sql`update vessel set pause = jsonb_build_object('since', now(), 'until', null, 'reason', 'It was paused before reasons were asked for.', 'by', 'a person')
    where paused`.execute(db)
  await sql`alter table vessel drop column paused`.execute(db)
}
