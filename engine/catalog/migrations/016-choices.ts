import { sql, type Kysely } from 'kysely'

/**
 * What a person chose, under a short name for addresses; which point a saved restore begins with; and how the log that a
 * source keeps for a follower has grown (core/plan/fill), with the bytes that are free on its disk.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table kept_choice (id text primary key, choice jsonb not null, used_at timestamptz not null)`.execute(db)
  await sql`create index on kept_choice (used_at)`.execute(db)
  await sql`alter table saved_restore add column begins jsonb not null default '{"which": "newest good"}'`.execute(db)
  await sql`alter table follower add column measured jsonb not null default '[]', add column log_free bigint`.execute(db)
}
