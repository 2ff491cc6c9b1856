import { sql, type Kysely } from 'kysely'

/** The hold ledger: the way to release is in it before anything is held. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const statement of STATEMENTS) await sql.raw(statement).execute(db)
}

const STATEMENTS = [
  // Times are those of the machine: what is held is held in real time, whatever clock a run goes by.
  `create table hold (
    id uuid primary key, run_id uuid not null references run on delete cascade, vessel_id uuid not null references vessel on delete cascade,
    ordinal integer not null, name text not null, member text not null, act jsonb not null, release jsonb, limit_ms integer not null,
    budget_ms integer not null, known jsonb not null default '{}', state text not null, begun_at timestamptz not null, held_at timestamptz,
    released_at timestamptz, overdue_at timestamptz not null, attempts integer not null default 0, next_try_at timestamptz,
    claimed_until timestamptz, output text not null default '', failure text, release_output text not null default '', trouble text,
    released_by text)`,
  `create index hold_open on hold (overdue_at) where state <> 'released'`,
  `create index hold_by_run on hold (run_id, ordinal)`,
  `alter table point add column reached jsonb`,
]
