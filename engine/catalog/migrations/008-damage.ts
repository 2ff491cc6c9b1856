import { sql, type Kysely } from 'kysely'

/** What verification found: content that can't be read, and what of points and stretches of logs rests upon it. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table chunk add column damaged boolean not null default false`.execute(db)
  await sql`create index chunk_damaged on chunk (store_id) where damaged`.execute(db)
  await sql`alter table point add column damage jsonb`.execute(db)
}
