import { sql, type Kysely } from 'kysely'

/** Which worker a run belongs to, as a token; and what has to be undone outside of the catalog if that worker dies; the turn of a hold. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table run add column claim uuid`.execute(db)
  await sql`create table run_undo (run_id uuid not null references run on delete cascade, ordinal integer not null, kind text not null,
    what jsonb not null, primary key (run_id, ordinal))`.execute(db)
  await sql`alter table hold add column turn integer not null default 0`.execute(db)
}
