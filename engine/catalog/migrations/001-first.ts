import { sql, type Kysely } from 'kysely'

/** Stores and their content, sources and their things, vessels, runs, points and receipts. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of STATEMENTS) await sql.raw(statement).execute(db)
}

const STATEMENTS = [
  `create table store (
    id uuid primary key, name text not null unique, kind text not null, settings jsonb not null,
    sealed_key bytea not null, created_at timestamptz not null, verified_at timestamptz, trouble jsonb)`,
  `create table source (
    id uuid primary key, name text not null unique, kind text not null, settings jsonb not null,
    sealed_secret bytea, probe jsonb, discovered_at timestamptz, trouble jsonb, created_at timestamptz not null)`,
  `create table thing (
    source_id uuid not null references source on delete cascade, path text not null, kind text not null,
    labels jsonb not null, facts jsonb not null, first_seen timestamptz not null, gone_at timestamptz,
    primary key (source_id, path))`,
  `create table vessel (
    id uuid primary key, slug text not null unique, name text not null unique, paused boolean not null default false,
    version integer not null, created_at timestamptz not null)`,
  `create table vessel_version (
    vessel_id uuid not null references vessel on delete cascade, version integer not null, definition jsonb not null,
    created_at timestamptz not null, primary key (vessel_id, version))`,
  `create table run (
    id uuid primary key, kind text not null, vessel_id uuid not null references vessel on delete cascade,
    vessel_version integer not null, state text not null, name text, comment text, started_by text not null,
    params jsonb not null, at timestamptz not null, created_at timestamptz not null, started_at timestamptz,
    finished_at timestamptz, heartbeat_at timestamptz, cancel_requested_at timestamptz, counters jsonb not null,
    outcome jsonb, error jsonb)`,
  `create index run_by_time on run (at desc, id desc)`,
  `create index run_by_vessel on run (vessel_id, at desc)`,
  `create index run_active on run (state) where state in ('waiting', 'running')`,
  `create table run_step (
    run_id uuid not null references run on delete cascade, ordinal integer not null, member text not null,
    kind text not null, title text not null, state text not null, started_at timestamptz, finished_at timestamptz,
    counters jsonb not null, message text, primary key (run_id, ordinal))`,
  `create table run_message (
    id bigint generated always as identity primary key, run_id uuid not null references run on delete cascade,
    at timestamptz not null, level text not null, text text not null)`,
  `create index run_message_by_run on run_message (run_id, id)`,
  // A pack counts only once its run has committed it; until then only that run may refer to it.
  `create table pack (
    id uuid primary key, store_id uuid not null references store, run_id uuid not null, bytes bigint not null,
    entries integer not null, committed boolean not null, created_at timestamptz not null)`,
  `create index pack_by_run on pack (run_id)`,
  `create table chunk (
    store_id uuid not null, name bytea not null, pack_id uuid not null references pack on delete cascade,
    position bigint not null, length integer not null, plain_length integer not null, base bytea,
    primary key (store_id, name, pack_id))`,
  `create index chunk_by_pack on chunk (pack_id)`,
  `create table artifact (
    id uuid primary key, run_id uuid not null, vessel_id uuid not null references vessel on delete cascade,
    source_id uuid not null references source, member text not null, kind text not null, parent uuid,
    at timestamptz not null, position text not null, rows bigint not null, bytes bigint not null,
    stored bigint not null, manifest jsonb not null)`,
  `create index artifact_by_vessel on artifact (vessel_id, at)`,
  `create table point (
    id uuid primary key, vessel_id uuid not null references vessel on delete cascade, vessel_version integer not null,
    run_id uuid not null, store_id uuid not null references store, at timestamptz not null, name text, comment text,
    pinned boolean not null default false, complete boolean not null, kept_for uuid, consistency text not null,
    missing jsonb not null, verified_at timestamptz, created_at timestamptz not null)`,
  `create index point_by_vessel on point (vessel_id, at)`,
  `create table point_artifact (
    point_id uuid not null references point on delete cascade, artifact_id uuid not null references artifact,
    primary key (point_id, artifact_id))`,
  `create table receipt (
    run_id uuid not null references run on delete cascade, ordinal integer not null, path text not null,
    target text not null, verb text not null, outcome text not null, reason text, rows bigint,
    fingerprint_then text, fingerprint_now text, structure_then text, structure_now text, equal boolean,
    left_parts jsonb not null, primary key (run_id, ordinal))`,
]
