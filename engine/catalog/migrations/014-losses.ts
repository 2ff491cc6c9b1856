import { sql, type Kysely } from 'kysely'

/**
 * What a log told to be lost: tables and columns that were dropped, tables that were emptied, rows that were deleted in
 * numbers. Of things that are gone where no log tells of it, since when they may be, and whether that was meant; and by
 * which run something came back.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table loss (
    id uuid primary key, vessel_id uuid not null references vessel on delete cascade,
    source_id uuid not null references source on delete cascade, member text not null,
    kind text not null check (kind in ('dropped', 'columns', 'removed')),
    before_position text not null, end_position text not null, at timestamptz not null, after_at timestamptz,
    xid text, by jsonb, statement text, tables jsonb not null, went jsonb not null,
    found_at timestamptz not null default now(), meant_at timestamptz, back_at timestamptz, back_run uuid)`.execute(db)
  await sql`create index loss_of_vessel on loss (vessel_id, at)`.execute(db)
  await sql`alter table thing add column gone_after timestamptz, add column gone_meant_at timestamptz,
    add column back_at timestamptz, add column back_run uuid`.execute(db)
}
