import type { Store } from '../store/store'

/** The plain rows of a chunk, with where each begins. */
export class ChunkRows {
  private readonly starts: number[] = []
  private readonly sorted = new Map<number, { keys: BigInt64Array; rows: Uint32Array }>()

  constructor(private readonly bytes: Buffer) {
    for (let at = 0; at < bytes.length;) {
      this.starts.push(at)
      const end = bytes.indexOf(10, at)
      if (end < 0) throw new Error('a chunk does not end with a row')
      at = end + 1
    }
    this.starts.push(bytes.length)
  }

  get rows(): number {
    return this.starts.length - 1
  }

  get size(): number {
    return this.bytes.length + this.starts.length * 8
  }

  line(row: number): string {
    return this.bytes.toString('utf8', this.starts[row]!, this.starts[row + 1]! - 1)
  }

  /** Keys of the integer column at a position, ascending, with the row of each. */
  byKey(column: number): { keys: BigInt64Array; rows: Uint32Array } {
    const known = this.sorted.get(column)
    if (known) return known
    const keys = new BigInt64Array(this.rows)
    for (let row = 0; row < this.rows; row++) keys[row] = BigInt(this.field(row, column))
    const rows = Uint32Array.from({ length: this.rows }, (_, row) => row)
    const isSorted = keys.every((key, i) => i === 0 || keys[i - 1]! <= key)
    if (!isSorted) rows.sort((a, b) => (keys[a]! < keys[b]! ? -1 : keys[a]! > keys[b]! ? 1 : a - b))
    const result = { keys: isSorted ? keys : BigInt64Array.from(rows, (row) => keys[row]!), rows }
    this.sorted.set(column, result)
    return result
  }

  private field(row: number, column: number): string {
    let from = this.starts[row]!
    for (let i = 0; i < column; i++) from = this.bytes.indexOf(9, from) + 1
    let to = from
    while (this.bytes[to] !== 9 && this.bytes[to] !== 10) to++
    return this.bytes.toString('latin1', from, to)
  }
}

// Rows that were looked at lately, so that paging back and forth reads nothing twice.
const CACHE_BYTES = 160 * 1024 * 1024
const cache = new Map<string, Promise<ChunkRows>>()
let cached = 0

export function chunkRows(store: Store, name: string): Promise<ChunkRows> {
  const key = `${store.id} ${name}`
  const known = cache.get(key)
  if (known) {
    cache.delete(key)
    cache.set(key, known)
    return known
  }
  const reading = store.read(name).then((bytes) => new ChunkRows(Buffer.from(bytes.buffer, bytes.byteOffset, bytes.byteLength)))
  cache.set(key, reading)
  reading.then(
    ({ size }) => {
      cached += size
      makeRoom()
    },
    () => cache.delete(key),
  )
  return reading
}

function makeRoom(): void {
  for (const [key, reading] of cache) {
    if (cached <= CACHE_BYTES || cache.size <= 1) return
    cache.delete(key)
    void reading.then(({ size }) => (cached -= size))
  }
}
