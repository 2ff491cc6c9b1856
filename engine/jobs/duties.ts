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
}
