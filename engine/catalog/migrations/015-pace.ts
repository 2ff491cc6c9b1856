import { sql, type Kysely } from 'kysely'

/** How fast a run moved what it moved: samples of milliseconds since it began, bytes, and rows and files (core/time/pace). */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table run add column pace jsonb not null default '[]'`.execute(db)
}
