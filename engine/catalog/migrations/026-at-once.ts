import { sql, type Kysely } from 'kysely'

/** How many runs may work at a source, or with a store, at once; and at which sources a run works. */
export async function up(db: Kysely<unknown>): Promise<void> {
  for (const table of ['source', 'store'])
    await sql`alter table ${sql.ref(table)} add column at_once integer check (at_once > 0)`.execute(db)
  await sql`alter table run add column sources text[] not null default '{}'`.execute(db)
}
