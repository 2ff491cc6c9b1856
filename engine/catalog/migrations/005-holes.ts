import { sql, type Kysely } from 'kysely'

/** Tables whose rows were found out later not to be known from a position on, by their object ids. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`alter table chain_break add column holes jsonb not null default '{}'`.execute(db)
}
