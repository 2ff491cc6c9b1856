import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import type { CatalogDb } from '../catalog/connect'

/**
 * What one worker of all does, for a while, by the catalog's clock. Whoever dies, or sleeps, loses it to another when
 * its time is over. It only saves work: what must never be done twice asks for more than this.
 */
export class Duties {
  private readonly holder = randomUUID()

  constructor(private readonly db: CatalogDb) {}

  /** Takes a duty, or keeps one; false while another worker has it. */
  async take(what: string, forMs: number): Promise<boolean> {
    const until = sql<Date>`now() + make_interval(secs => ${forMs / 1000})`
    const { numInsertedOrUpdatedRows } = await this.db
      .insertInto('duty')
      .values({ what, holder: this.holder, until })
      .onConflict((conflict) =>
        conflict
          .column('what')
          .doUpdateSet({ holder: this.holder, until })
          .where((eb) => eb.or([eb('duty.holder', '=', this.holder), eb('duty.until', '<=', sql<Date>`now()`)])),
      )
      .executeTakeFirst()
    return numInsertedOrUpdatedRows !== 0n
  }

  async giveUp(what: string): Promise<void> {
    await this.db.deleteFrom('duty').where('what', '=', what).where('holder', '=', this.holder).execute()
  }

  /** Keeps the duties of one kind that this worker still has, and says which those are. */
  async keep(kind: string, forMs: number): Promise<Set<string>> {
    const rows = await this.db
      .updateTable('duty')
      .set({ until: sql<Date>`now() + make_interval(secs => ${forMs / 1000})` })
      .where('holder', '=', this.holder)
      .where('what', 'like', `${kind} %`)
      .returning('what')
      .execute()
    return new Set(rows.map(({ what }) => what))
  }

  /** Duties of one kind that somebody has. */
  async held(kind: string): Promise<Set<string>> {
    const rows = await this.db
      .selectFrom('duty')
      .select('what')
      .where('what', 'like', `${kind} %`)
      .where('until', '>', sql<Date>`now()`)
      .execute()
    return new Set(rows.map(({ what }) => what))
  }

  /** Says that this worker is there, and how many are, that take part in one kind of work. */
  async present(kind: string, forMs: number): Promise<number> {
    await this.take(`${kind} ${this.holder}`, forMs)
    return (await this.held(kind)).size
  }

  /** Gives up all that is of one kind. */
  async giveUpAll(kind: string): Promise<void> {
    await this.db.deleteFrom('duty').where('what', 'like', `${kind} %`).where('holder', '=', this.holder).execute()
  }
}
