import type { TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import type { Store } from '../store/store'
import { chunkRows, type ChunkRows } from './chunk-rows'

/** A row by where it lies. */
export interface RowAt {
  chunk: number
  row: number
}

// Chunks whose keys lie across the place that is looked for have to be read; past this the order is not given.
const MOST_READ = 240

interface Range {
  chunk: number
  min: bigint
  max: bigint
  rows: number
}

/** First position in ascending keys that is not below `key`. */
function lowerBound(keys: BigInt64Array, key: bigint): number {
  let [low, high] = [0, keys.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if (keys[middle]! < key) low = middle + 1
    else high = middle
  }
  return low
}

/**
 * The rows of a table by an integer key, found from the ranges of its chunks: only chunks whose range lies across
 * the place that is asked for are read, so a table that is stored about in order is not read to be sorted.
 */
export class KeyOrder {
  private readonly ranges: Range[]
  private readonly starts: bigint[]
  private readonly loaded = new Map<number, ChunkRows>()

  constructor(
    private readonly store: Store,
    private readonly table: TableManifest,
    private readonly column: number,
  ) {
    this.ranges = table.chunks.map(({ keys, rows }, chunk) => ({ chunk, min: BigInt(keys![0]), max: BigInt(keys![1]), rows }))
    this.starts = [...new Set(this.ranges.map(({ min }) => min))].sort((a, b) => (a < b ? -1 : 1))
  }

  static fits(table: TableManifest): boolean {
    return table.key?.length === 1 && table.chunks.length > 0 && table.chunks.every(({ keys }) => keys !== null)
  }

  /** `limit` rows from the `offset`th on, in ascending order of the key. */
  async page(offset: number, limit: number): Promise<RowAt[]> {
    let [low, high] = [0, this.starts.length - 1]
    while (low < high) {
      const middle = (low + high + 1) >> 1
      if ((await this.below(this.starts[middle]!)) <= offset) low = middle
      else high = middle - 1
    }
    const from = this.starts[low]!
    return this.from(from, offset - (await this.below(from)), limit)
  }

  /** How many rows have a smaller key. */
  async below(key: bigint): Promise<number> {
    let count = 0
    for (const range of this.ranges) {
      if (range.max < key) count += range.rows
      else if (range.min < key) count += lowerBound((await this.load(range.chunk)).byKey(this.column).keys, key)
    }
    return count
  }

  /** `limit` rows with a key of at least `key`, after the first `skip` of them. */
  async from(key: bigint, skip: number, limit: number): Promise<RowAt[]> {
    const found: RowAt[] = []
    const waiting = this.ranges.filter(({ max }) => max >= key).sort((a, b) => (a.min < b.min ? -1 : a.min > b.min ? 1 : a.chunk - b.chunk))
    const open: { chunk: number; keys: BigInt64Array; rows: Uint32Array; at: number }[] = []
    let remaining = skip
    while (found.length < limit) {
      const head = open.reduce<(typeof open)[number] | null>(
        (least, list) => (least === null || list.keys[list.at]! < least.keys[least.at]! ? list : least),
        null,
      )
      const next = waiting[0]
      if (next && (head === null || next.min <= head.keys[head.at]!)) {
        waiting.shift()
        const sorted = (await this.load(next.chunk)).byKey(this.column)
        const at = lowerBound(sorted.keys, key)
        if (at < sorted.keys.length) open.push({ chunk: next.chunk, ...sorted, at })
        continue
      }
      if (head === null) break
      if (remaining > 0) remaining--
      else found.push({ chunk: head.chunk, row: head.rows[head.at]! })
      if (++head.at >= head.keys.length) open.splice(open.indexOf(head), 1)
    }
    return found
  }

  private async load(chunk: number): Promise<ChunkRows> {
    const known = this.loaded.get(chunk)
    if (known) return known
    if (this.loaded.size >= MOST_READ) throw scattered(this.table)
    const rows = await chunkRows(this.store, this.table.chunks.at(chunk)!.name)
    this.loaded.set(chunk, rows)
    return rows
  }
}

function scattered({ schema, name }: TableManifest): VesselError {
  return new VesselError('too_scattered', {
    what: `The rows of ${schema}.${name} are stored in such disorder that nearly all of them would have to be read to sort them by key.`,
    touched: 'Nothing was changed.',
    next: 'Look at them in the order in which they are stored, or filter by the key.',
    status: 422,
  })
}
