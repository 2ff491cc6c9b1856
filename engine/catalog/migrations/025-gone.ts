import { sql, type Kysely } from 'kysely'

/**
 * Vessels that were deleted, and whose points stay for a while; their names may be used anew. What was taken from a
 * source stays when the source is forgotten.
 */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table vessel add column gone jsonb`.execute(db)
  await sql`alter table vessel drop constraint vessel_name_key`.execute(db)
  await sql`create unique index vessel_name on vessel (name) where gone is null`.execute(db)
  await sql`create table deleted_place (id uuid primary key, kind text not null check (kind in ('source', 'store')), name text not null,
    at timestamptz not null, by text not null, why text not null)`.execute(db)
  await sql`alter table artifact alter column source_id drop not null,
    drop constraint artifact_source_id_fkey,
    add constraint artifact_source_id_fkey foreign key (source_id) references source on delete set null`.execute(db)
}
