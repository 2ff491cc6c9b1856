import { openStore } from '../catalog/stores'
import type { CatalogDb } from '../catalog/connect'
import type { EngineContext } from '../context'
import { pointPath, segmentPath } from '../store/records'
import type { Store } from '../store/store'
import { refuseAhead } from '../store/strangers'

/**
 * Records that leave their stores: announced in the transaction in which the catalog forgets them, removed after it. What is
 * left of them when that fails goes with what other runs leave.
 */
export class Departure {
  private readonly leaving = new Map<string, { store: Store; paths: string[] }>()

  constructor(
    private readonly engine: EngineContext,
    private readonly run: string,
    /** A store that goes as a whole: what leaves it need not be told. */
    private readonly without: string | null = null,
  ) {}

  points(tx: CatalogDb, points: { id: string; storeId: string }[]): Promise<void> {
    return this.leave(
      tx,
      points.map(({ id, storeId }) => ({ storeId, path: pointPath(id) })),
    )
  }

  segments(tx: CatalogDb, segments: { id: string; storeId: string }[]): Promise<void> {
    return this.leave(
      tx,
      segments.map(({ id, storeId }) => ({ storeId, path: segmentPath(id) })),
    )
  }

  private async leave(tx: CatalogDb, files: { storeId: string; path: string }[]): Promise<void> {
    for (const id of new Set(files.map(({ storeId }) => storeId))) {
      if (id === this.without) continue
      const of = this.leaving.get(id) ?? { store: await this.open(id), paths: [] }
      this.leaving.set(id, of)
      const paths = files.flatMap(({ storeId, path }) => (storeId === id ? [path] : []))
      await of.store.index.announced.addAll(paths, this.run, tx)
      of.paths.push(...paths)
    }
  }

  private async open(id: string): Promise<Store> {
    const store = await openStore(this.engine, { id })
    await refuseAhead(store)
    return store
  }

  async finish(): Promise<void> {
    for (const { store, paths } of this.leaving.values()) await store.remove(paths)
  }
}
