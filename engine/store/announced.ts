import { sql } from 'kysely'
import type { CatalogDb } from '../catalog/connect'

/**
 * Files of a store that are about to be written. Only what was announced is ever removed as left over by somebody who
 * died: a catalog that came back from a copy knows less than its stores hold.
 */
export class AnnouncedFiles {
  constructor(
    private readonly db: CatalogDb,
    private readonly storeId: string,
  ) {}

  /** @param runId for what it is written: a run, or a segment of log */
  add(path: string, runId: string): Promise<void> {
    return this.addAll([path], runId)
  }

  async addAll(paths: string[], runId: string, db: CatalogDb = this.db): Promise<void> {
    await sql`insert into announced_file (store_id, path, run_id) select ${this.storeId}, path, ${runId} from unnest(${paths}::text[]) path
      on conflict (store_id, path) do update set run_id = excluded.run_id`.execute(db)
  }

  /** It is known by its own row from now on, or it is gone. */
  async settle(paths: string[], db: CatalogDb = this.db): Promise<void> {
    if (paths.length > 0) await db.deleteFrom('announced_file').where('store_id', '=', this.storeId).where('path', 'in', paths).execute()
  }

  /** Whether nobody has settled it. Whoever is just about to is waited for. */
  async isOpen(path: string): Promise<boolean> {
    const row = await this.db
      .selectFrom('announced_file')
      .select('path')
      .where('store_id', '=', this.storeId)
      .where('path', '=', path)
      .forUpdate()
      .executeTakeFirst()
    return row !== undefined
  }

  async touch(runId: string): Promise<void> {
    await this.db
      .updateTable('announced_file')
      .set({ at: sql`now()` })
      .where('store_id', '=', this.storeId)
      .where('run_id', '=', runId)
      .execute()
  }

  async of(runId: string): Promise<string[]> {
    const rows = await this.db
      .selectFrom('announced_file')
      .select('path')
      .where('store_id', '=', this.storeId)
      .where('run_id', '=', runId)
      .execute()
    return rows.map(({ path }) => path)
  }
}
