import { sql, type Kysely } from 'kysely'

/**
 * Files of stores that are about to be written, or to go. What is in no table and was never announced is not ours to
 * remove: a catalog that came back from a copy knows less than its stores hold.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table announced_file (store_id uuid not null references store on delete cascade, path text not null,
    run_id uuid not null, at timestamptz not null default now(), primary key (store_id, path))`.execute(db)
  await sql`create index announced_file_run on announced_file (run_id)`.execute(db)
}
