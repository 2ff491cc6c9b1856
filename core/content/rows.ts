import { rowsWasm } from './assembly/rows.wasm'

/** Bounds of row chunks in bytes. A chunk ends with a row, so a single larger row exceeds `max`. */
export const CHUNK_BYTES = { min: 256 * 1024, target: 1024 * 1024, max: 4 * 1024 * 1024 } as const

export interface RowChunk {
  bytes: Uint8Array<ArrayBuffer>
  rows: number
  /** Smallest and largest key, for tables with a single integer key. */
  keys: { min: bigint; max: bigint } | null
  /** XXH64 of the last row in hex: finds the chunk of an earlier backup that ended at the same row. */
  tail: string
}

/**
 * Rows, bytes and the fingerprint of a table: the sums modulo 2^64 of XXH64 with seed 0 and with seed 1 of
 * every row (its line of COPY text with the newline), 32 hex digits. It does not depend on the rows' order.
 */
export interface RowsTally {
  rows: number
  bytes: number
  fingerprint: string
}

interface Exports {
  memory: WebAssembly.Memory
  begin(base: number, min: number, target: number, max: number, key: number): void
  take(from: number, to: number, framed: number): number
  nextChunk(): void
  hasEnded(): number
  isMalformed(): number
  chunkLength(): number
  getChunkRows(): number
  isKeyed(): number
  getKeyMin(): bigint
  getKeyMax(): bigint
  getTail(): bigint
  getSumLow(): bigint
  getSumHigh(): bigint
  getTableRows(): number
  getTableBytes(): number
  xxh64(ptr: number, length: number, seed: bigint): bigint
}

const PAGE = 64 * 1024
const CHUNK_BASE = PAGE

let compiled: WebAssembly.Module | undefined

function instantiate(): Exports {
  compiled ??= new WebAssembly.Module(Uint8Array.from(atob(rowsWasm), (c) => c.charCodeAt(0)))
  const abort = () => {
    throw new Error('the row scanner ran out of memory')
  }
  return new WebAssembly.Instance(compiled, { env: { abort } }).exports as unknown as Exports
}

const hex64 = (value: bigint) => BigInt.asUintN(64, value).toString(16).padStart(16, '0')

export interface ChunkerOptions {
  /** Position of the single integer key column among the copied columns, or -1. */
  keyColumn?: number
  /** Whether the input is the server's wire protocol (CopyData messages) instead of plain rows. */
  framed?: boolean
  min?: number
  target?: number
  max?: number
}

/**
 * Cuts a stream of COPY text rows into content-defined, row-aligned chunks and takes the fingerprint on the
 * way. Memory is bounded by the largest row and chunk. With `framed`, `push` stops at the first message that
 * is not CopyData and leaves it, and what follows, in `rest()`.
 */
export class RowChunker {
  private readonly wasm = instantiate()
  private readonly framed: number
  private readonly max: number
  private inputBase: number
  private pendingFrom: number
  private pendingTo: number

  constructor(options: ChunkerOptions = {}) {
    const { min = CHUNK_BYTES.min, target = CHUNK_BYTES.target, max = CHUNK_BYTES.max } = options
    this.framed = options.framed ? 1 : 0
    this.max = max
    this.inputBase = this.pendingFrom = this.pendingTo = CHUNK_BASE + max + PAGE
    this.wasm.begin(CHUNK_BASE, min, target, max, options.keyColumn ?? -1)
  }

  /** Takes more input and yields each chunk that it completes. Consume it wholly before the next push. */
  *push(input: Uint8Array): Generator<RowChunk> {
    this.receive(input)
    for (;;) {
      this.pendingFrom = this.wasm.take(this.pendingFrom, this.pendingTo, this.framed)
      if (!this.wasm.hasEnded()) break
      yield this.cut()
    }
    if (this.wasm.isMalformed()) throw new Error('a CopyData message did not hold one whole row')
  }

  /** Bytes of whole rows since the last chunk ended. */
  get pending(): number {
    return this.wasm.chunkLength()
  }

  /** The last chunk, if rows are left. */
  finish(): RowChunk | undefined {
    return this.wasm.chunkLength() > 0 ? this.cut() : undefined
  }

  /** Input that was not taken: an unfinished row, or messages of another kind. */
  rest(): Uint8Array {
    return new Uint8Array(this.wasm.memory.buffer).slice(this.pendingFrom, this.pendingTo)
  }

  /** The first byte that was not taken: the kind of the next message, when framed. */
  peek(): number | undefined {
    return this.pendingFrom < this.pendingTo ? new Uint8Array(this.wasm.memory.buffer)[this.pendingFrom] : undefined
  }

  /** Drops bytes that were not taken, after somebody else has dealt with them. */
  skip(length: number): void {
    this.pendingFrom = Math.min(this.pendingTo, this.pendingFrom + length)
  }

  tally(): RowsTally {
    const { wasm } = this
    return {
      rows: wasm.getTableRows(),
      bytes: wasm.getTableBytes(),
      fingerprint: hex64(wasm.getSumLow()) + hex64(wasm.getSumHigh()),
    }
  }

  private receive(input: Uint8Array): void {
    const pending = this.pendingTo - this.pendingFrom
    const total = pending + input.length
    // A row may be as long as all that is pending, and the chunk before it almost `max`.
    const base = Math.max(this.inputBase, CHUNK_BASE + this.max + total + PAGE)
    const needed = base + total
    const have = this.wasm.memory.buffer.byteLength
    if (needed > have) this.wasm.memory.grow(Math.ceil((needed - have) / PAGE) + 64)
    const memory = new Uint8Array(this.wasm.memory.buffer)
    if (pending > 0) memory.copyWithin(base, this.pendingFrom, this.pendingTo)
    memory.set(input, base + pending)
    this.inputBase = this.pendingFrom = base
    this.pendingTo = base + total
  }

  private cut(): RowChunk {
    const { wasm } = this
    const bytes = new Uint8Array(wasm.memory.buffer, CHUNK_BASE, wasm.chunkLength()).slice()
    const keys = wasm.isKeyed() ? { min: wasm.getKeyMin(), max: wasm.getKeyMax() } : null
    const chunk = { bytes, rows: wasm.getChunkRows(), keys, tail: hex64(wasm.getTail()) }
    wasm.nextChunk()
    return chunk
  }
}

/** Rows, bytes and fingerprint of chunks that are already cut, for the way out. */
export function tallyRows(chunks: Iterable<Uint8Array>): RowsTally {
  const chunker = new RowChunker()
  for (const bytes of chunks) {
    const completed = chunker.push(bytes)
    while (!completed.next().done);
  }
  return chunker.tally()
}

/** XXH64 of bytes with a seed; one row's part of a fingerprint. */
export function xxh64(bytes: Uint8Array, seed: bigint): bigint {
  const wasm = instantiate()
  const base = CHUNK_BASE
  const missing = base + bytes.length - wasm.memory.buffer.byteLength
  if (missing > 0) wasm.memory.grow(Math.ceil(missing / PAGE))
  new Uint8Array(wasm.memory.buffer).set(bytes, base)
  return BigInt.asUintN(64, wasm.xxh64(base, bytes.length, seed))
}
