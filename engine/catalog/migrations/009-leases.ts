import { sql, type Kysely } from 'kysely'

/** What only one run may have at a time, and by which master key the catalog is sealed. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table lease (what text primary key, run_id uuid not null references run on delete cascade,
    taken_at timestamptz not null default now())`.execute(db)
  await sql`create table master_key (one boolean primary key default true check (one), sealed_check bytea not null)`.execute(db)
}
