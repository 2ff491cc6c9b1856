import { sql, type Kysely } from 'kysely'

/**
 * How long points stay: their place in the plan that made them, pins with their reason, and what became of those that went.
 * And the protocol by which dead content goes (docs/decisions/0036): packs that are condemned, everybody who writes content,
 * and what a prune found to be alive.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of STATEMENTS) await sql.raw(statement).execute(db)
}

const STATEMENTS = [
  `alter table point add column plan jsonb, add column pin jsonb`,
  `update point set plan = run.params->'plan' from run where run.id = point.run_id and point.kept_for is null and run.params ? 'plan'`,
  `update point set pin = jsonb_build_object('reason', 'It was pinned before reasons were asked for.', 'until', null, 'by', 'a person', 'at', now())
    where pinned`,
  `alter table point drop column pinned`,
  `create table gone_point (
    id uuid primary key, vessel_id uuid not null references vessel on delete cascade, at timestamptz not null, name text, plan jsonb,
    gone_at timestamptz not null, run_id uuid, why text not null, by text not null)`,
  `create index on gone_point (vessel_id, at)`,
  `alter table pack add column condemned_by uuid, add column condemned_at timestamptz`,
  `create index pack_condemned on pack (store_id) where condemned_by is not null`,
  `create table content_writer (
    id uuid primary key, store_id uuid not null references store on delete cascade, owner uuid not null, heard_at timestamptz not null default now())`,
  `create index on content_writer (store_id)`,
  `create index on content_writer (owner)`,
  // What it holds is made anew by every prune.
  `create unlogged table live_chunk (run_id uuid not null, name bytea not null, primary key (run_id, name))`,
  `alter table store add column pruned_at timestamptz,
    add column prune jsonb default '{"zone": "UTC", "at": "04:30"}'`,
]
