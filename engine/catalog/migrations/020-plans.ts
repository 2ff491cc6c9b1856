import { sql, type Kysely } from 'kysely'

/** Up to when it was decided what is due of each line of a plan, and what was decided. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table plan_line (vessel_id uuid not null references vessel, line text not null,
    decided_until timestamptz not null, shape text not null, primary key (vessel_id, line))`.execute(db)
  await sql`create table due (id uuid primary key, vessel_id uuid not null references vessel, line text not null, name text not null,
    due_at timestamptz not null, last_due_at timestamptz not null, times integer not null,
    outcome text not null check (outcome in ('run', 'missed', 'left out')), why text,
    run_id uuid references run, tries integer not null default 0, next_try_at timestamptz, closes_at timestamptz,
    settled boolean not null, decided_at timestamptz not null, unique (vessel_id, line, due_at))`.execute(db)
  await sql`create index on due (vessel_id, due_at desc)`.execute(db)
  await sql`create index on due (decided_at) where not settled`.execute(db)
}
