import { linesOfEntries, type ChunkChange } from '../../core/changes/apply'
import type { SharedNet } from '../../core/changes/net'
import type { OpenTask } from '../pool/tasks'
import { Store } from '../store/store'

/** A chunk that lies in no store: one that does, with changes, or rows that are only in the changes. */
export type MadeChunk = { base: string; change: ChunkChange } | { net: SharedNet; entries: number[] }

const MADE = '~'
let made = 0

/**
 * A store that also reads chunks of a state that was never stored: they are made from stored ones each time they
 * are asked for. So everything that reads content reads any moment.
 */
export class MomentStore extends Store {
  private readonly chunks = new Map<string, MadeChunk>()
  private parts: MomentStore[] = []

  static over(store: Store): MomentStore {
    const { id, name, backend, keys, index, pool } = store
    return new MomentStore(id, name, backend, keys, index, pool)
  }

  /** Reads what any of several can read. */
  static together(stores: MomentStore[]): MomentStore {
    const combined = MomentStore.over(stores[0]!)
    combined.parts = stores
    return combined
  }

  private find(name: string): MadeChunk | undefined {
    return this.chunks.get(name) ?? this.parts.map((part) => part.find(name)).find((chunk) => chunk !== undefined)
  }

  /** Gives a chunk a name under which it can be read here. */
  make(chunk: MadeChunk): string {
    const name = `${MADE}${made++}`
    this.chunks.set(name, chunk)
    return name
  }

  isMade(name: string): boolean {
    return name.startsWith(MADE)
  }

  drop(name: string): void {
    this.chunks.delete(name)
  }

  override read(name: string, runId: string | null = null): Promise<Uint8Array<ArrayBuffer>> {
    return name.startsWith(MADE) ? this.with(name, (task) => this.pool.open(task)) : super.read(name, runId)
  }

  override async with<T>(name: string, work: (task: OpenTask) => Promise<T>): Promise<T> {
    if (!name.startsWith(MADE)) return super.with(name, work)
    const chunk = this.find(name)
    if (!chunk) throw this.missing(name)
    if ('net' in chunk) return work({ plain: linesOfEntries(chunk.net, chunk.entries) })
    return this.whereItLies(chunk.base, null, (place) => this.openAt(chunk.base, place, work, chunk.change))
  }
}
