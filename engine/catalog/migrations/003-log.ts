import { sql, type Kysely } from 'kysely'

/** Chains: artifacts with a beginning, followers of logs, breaks, and what the logs tell. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of STATEMENTS) await sql.raw(statement).execute(db)
}

const STATEMENTS = [
  `alter table artifact add column from_position text, add column from_at timestamptz, add column era text not null default '',
    add column store_id uuid references store, add column damaged boolean not null default false`,
  `update artifact set from_position = position, from_at = at,
    store_id = (select p.store_id from point_artifact l join point p on p.id = l.point_id where l.artifact_id = artifact.id limit 1)`,
  `alter table artifact alter column from_position set not null, alter column from_at set not null`,
  // One for each member of a vessel whose log is to be followed. Its slot's name is committed before the slot is made.
  `create table follower (
    vessel_id uuid not null references vessel on delete cascade, member text not null, source_id uuid not null references source,
    database text not null, state text not null, slot text not null, publication text not null, structure text not null,
    position text, at timestamptz, still_position text, still_at timestamptz, era text not null default '', retained bigint,
    behind bigint, tables jsonb not null default '{}', structure_names jsonb, trouble jsonb, since timestamptz not null,
    warned boolean not null default false, primary key (vessel_id, member))`,
  `create table chain_break (
    id uuid primary key, vessel_id uuid not null references vessel on delete cascade, member text not null, kind text not null,
    reason text not null, next text not null, tables jsonb not null, from_position text, from_at timestamptz, to_at timestamptz,
    at timestamptz not null)`,
  `create index chain_break_by_vessel on chain_break (vessel_id, at)`,
  // What the logs hold by second and table, so that a lifeline need not read them.
  `create table log_trace (
    artifact_id uuid not null references artifact on delete cascade, vessel_id uuid not null, member text not null,
    second timestamptz not null, name text not null, inserted integer not null, updated integer not null,
    deleted integer not null, emptied integer not null)`,
  `create index log_trace_by_time on log_trace (vessel_id, second)`,
  `create index log_trace_by_artifact on log_trace (artifact_id)`,
  `create table log_heavy (
    artifact_id uuid not null references artifact on delete cascade, vessel_id uuid not null, member text not null, xid text not null,
    position text not null, end_position text not null, at timestamptz not null, micros bigint not null, application text, role text,
    rows bigint not null, tables jsonb not null)`,
  `create index log_heavy_by_time on log_heavy (vessel_id, at)`,
  `create index log_heavy_by_artifact on log_heavy (artifact_id)`,
  `create table log_structure (
    artifact_id uuid not null references artifact on delete cascade, vessel_id uuid not null, member text not null, xid text,
    end_position text not null, at timestamptz not null, tag text not null, statement text, objects jsonb not null)`,
  `create index log_structure_by_time on log_structure (vessel_id, at)`,
  `create index log_structure_by_artifact on log_structure (artifact_id)`,
]
