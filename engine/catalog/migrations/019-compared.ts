import { sql, type Kysely } from 'kysely'

/** What a restore only compared, or remarked, is told apart from things that it left as they are. */
export async function up(db: Kysely<unknown>): Promise<void> {
  await sql`update receipt set outcome = 'noted', equal = null
    where verb = 'compare' and outcome = 'left'
      and (path like '%/audit of the log' or path like '%/sequences' or reason like 'It was not compared as a whole:%')`.execute(db)
  await sql`update receipt set outcome = 'compared' where verb = 'compare' and outcome = 'left'`.execute(db)
}
