import { sql, type Kysely } from 'kysely'

/** Pauses of a source, and of everything (where there is no source); and when nothing may begin at a source. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`create table wider_pause (
    source_id uuid unique nulls not distinct references source on delete cascade, pause jsonb not null)`.execute(db)
  await sql`alter table source add column quiet jsonb not null default '[]'`.execute(db)
}
