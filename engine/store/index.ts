import type { CatalogDb } from '../catalog/connect'
import type { WrittenPack } from './pack'

/** Where a chunk lies. */
export interface ChunkPlace {
  pack: string
  position: number
  length: number
  plainLength: number
  base: Buffer | null
}

/** The index of a store's chunks, in the catalog. It can be rebuilt from the packs. */
export class ChunkIndex {
  constructor(
    private readonly db: CatalogDb,
    readonly storeId: string,
  ) {}

  /** Place of a chunk that may be referred to: in a committed pack, or in one of this run. */
  async find(name: Uint8Array, runId: string | null): Promise<ChunkPlace | undefined> {
    const row = await this.db
      .selectFrom('chunk')
      .innerJoin('pack', 'pack.id', 'chunk.pack_id')
      .select(['chunk.pack_id', 'chunk.position', 'chunk.length', 'chunk.plain_length', 'chunk.base'])
      .where('chunk.store_id', '=', this.storeId)
      .where('chunk.name', '=', Buffer.from(name))
      .where((eb) => eb.or([eb('pack.committed', '=', true), ...(runId ? [eb('pack.run_id', '=', runId)] : [])]))
      .limit(1)
      .executeTakeFirst()
    if (!row) return undefined
    return {
      pack: row.pack_id,
      position: Number(row.position),
      length: row.length,
      plainLength: row.plain_length,
      base: row.base,
    }
  }

  /** Which of many chunks may be referred to; their names in hexadecimal. */
  async known(names: Buffer[], runId: string): Promise<Set<string>> {
    const rows = await this.db
      .selectFrom('chunk')
      .innerJoin('pack', 'pack.id', 'chunk.pack_id')
      .select('chunk.name')
      .where('chunk.store_id', '=', this.storeId)
      .where('chunk.name', 'in', names)
      .where((eb) => eb.or([eb('pack.committed', '=', true), eb('pack.run_id', '=', runId)]))
      .execute()
    return new Set(rows.map(({ name }) => name.toString('hex')))
  }

  /** Registers a durable pack of a run; others may not use it until the run commits. */
  async add(pack: WrittenPack, runId: string): Promise<void> {
    await this.db.transaction().execute(async (tx) => {
      await tx
        .insertInto('pack')
        .values({
          id: pack.id,
          store_id: this.storeId,
          run_id: runId,
          bytes: pack.bytes,
          entries: pack.entries.length,
          committed: false,
          created_at: new Date(),
        })
        .execute()
      for (let from = 0; from < pack.entries.length; from += 1000) {
        const part = pack.entries.slice(from, from + 1000)
        await tx
          .insertInto('chunk')
          .values(
            part.map((entry) => ({
              store_id: this.storeId,
              name: entry.name,
              pack_id: pack.id,
              position: entry.position,
              length: entry.length,
              plain_length: entry.plainLength,
              base: entry.base,
            })),
          )
          .execute()
      }
    })
  }

  async commit(db: CatalogDb, runId: string): Promise<void> {
    await db.updateTable('pack').set({ committed: true }).where('run_id', '=', runId).where('store_id', '=', this.storeId).execute()
  }

  /** Forgets the packs of a run that did not commit, and returns their ids so that the files can go. */
  async forgetUncommitted(runId: string): Promise<string[]> {
    const rows = await this.db
      .deleteFrom('pack')
      .where('run_id', '=', runId)
      .where('store_id', '=', this.storeId)
      .where('committed', '=', false)
      .returning('id')
      .execute()
    return rows.map((row) => row.id)
  }

  /** Forgets a damaged chunk. */
  async forget(name: Buffer, packId: string): Promise<void> {
    await this.db.deleteFrom('chunk').where('name', '=', name).where('pack_id', '=', packId).execute()
  }

  packs(): Promise<{ id: string; bytes: number }[]> {
    return this.db
      .selectFrom('pack')
      .select(['id', 'bytes'])
      .where('store_id', '=', this.storeId)
      .where('committed', '=', true)
      .orderBy('created_at')
      .execute()
      .then((rows) => rows.map((row) => ({ id: row.id, bytes: Number(row.bytes) })))
  }

  async entriesOf(packId: string): Promise<(ChunkPlace & { name: Buffer })[]> {
    const rows = await this.db.selectFrom('chunk').selectAll().where('pack_id', '=', packId).orderBy('position').execute()
    return rows.map((row) => ({
      pack: packId,
      name: row.name,
      position: Number(row.position),
      length: row.length,
      plainLength: row.plain_length,
      base: row.base,
    }))
  }
}
