import { sql, type Kysely } from 'kysely'

/** Scratch copies, saved restores, and how long a point is kept that was made before an overwriting. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of STATEMENTS) await sql.raw(statement).execute(db)
}

const STATEMENTS = [
  `alter table point add column expires_at timestamptz`,
  `create table scratch (
    id uuid primary key, run_id uuid not null, vessel_id uuid not null references vessel on delete cascade,
    source_id uuid not null references source on delete cascade, database text not null, role text, sealed_password bytea,
    state text not null, created_at timestamptz not null, expires_at timestamptz not null, trouble jsonb)`,
  `create index scratch_by_expiry on scratch (expires_at) where state <> 'gone'`,
  `create table saved_restore (
    id uuid primary key, vessel_id uuid not null references vessel on delete cascade, name text not null, wish jsonb not null,
    reason text, created_at timestamptz not null, last_run_id uuid, unique (vessel_id, name))`,
]
