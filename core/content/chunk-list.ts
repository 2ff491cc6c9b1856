import type { ChunkRef } from './manifest'

// The chunks of a table may be millions. As objects each would take three hundred bytes and more; here it is 65.

/** Chunks in their order, to be read as an array is. */
export interface Chunks extends Iterable<ChunkRef> {
  readonly length: number
  at(index: number): ChunkRef | undefined
  map<T>(what: (chunk: ChunkRef, index: number) => T): T[]
  flatMap<T>(what: (chunk: ChunkRef, index: number) => T[]): T[]
  filter(which: (chunk: ChunkRef, index: number) => boolean): Chunks
  some(which: (chunk: ChunkRef, index: number) => boolean): boolean
  every(which: (chunk: ChunkRef, index: number) => boolean): boolean
  reduce<T>(what: (sum: T, chunk: ChunkRef, index: number) => T, from: T): T
  slice(from: number, to?: number): Chunks
  entries(): Iterable<[number, ChunkRef]>
}

/** A list that is longer is kept packed. */
export const LONG_LIST = 10_000

const PER_BLOCK = 1 << 15
const NAME = 32
const TAIL = 8

/** Some thousands of chunks, packed. */
interface Block {
  /** Name and tail of each. */
  bytes: Uint8Array
  rows: Uint32Array
  sizes: Uint32Array
  /** The range of keys of each, where it has one. */
  keys: BigInt64Array
  keyed: Uint8Array
}

const blockOf = (): Block => ({
  bytes: new Uint8Array(PER_BLOCK * (NAME + TAIL)),
  rows: new Uint32Array(PER_BLOCK),
  sizes: new Uint32Array(PER_BLOCK),
  keys: new BigInt64Array(PER_BLOCK * 2),
  keyed: new Uint8Array(PER_BLOCK),
})

/** Two bytes at a time: each digit by itself would take most of the time of reading a list. */
const HEX = Array.from({ length: 1 << 16 }, (_, two) => two.toString(16).padStart(4, '0'))

function hexOf(bytes: Uint8Array, from: number, length: number): string {
  let text = ''
  for (let at = from; at < from + length; at += 2) text += HEX[(bytes[at]! << 8) | bytes[at + 1]!]!
  return text
}

const digit = (code: number) => (code < 58 ? code - 48 : code - 87)

function writeHex(bytes: Uint8Array, at: number, text: string): void {
  for (let i = 0; i < text.length; i += 2) bytes[at + i / 2] = (digit(text.charCodeAt(i)) << 4) | digit(text.charCodeAt(i + 1))
}

const INTEGER = /^(0|-?[1-9]\d{0,18})$/
const isHex = (text: unknown, length: number) => typeof text === 'string' && text.length === length && /^[0-9a-f]*$/.test(text)
const isSmall = (value: unknown) => Number.isInteger(value) && (value as number) >= 0 && (value as number) < 2 ** 32
const fitsKey = (key: unknown) => typeof key === 'string' && INTEGER.test(key) && BigInt.asIntN(64, BigInt(key)) === BigInt(key)

export class ChunkList implements Chunks {
  private readonly blocks: Block[] = []
  length = 0

  /** Whether something is a chunk that can be packed: with names, tails and keys as all of ours have them. */
  static fits(value: unknown): value is ChunkRef {
    if (typeof value !== 'object' || value === null) return false
    const { name, rows, bytes, keys, tail, ...more } = value as Partial<ChunkRef>
    const areKeys = keys === null || (Array.isArray(keys) && keys.length === 2 && keys.every(fitsKey))
    return isHex(name, NAME * 2) && isHex(tail, TAIL * 2) && isSmall(rows) && isSmall(bytes) && areKeys && Object.keys(more).length === 0
  }

  push({ name, rows, bytes, keys, tail }: ChunkRef): void {
    const at = this.length % PER_BLOCK
    if (at === 0) this.blocks.push(blockOf())
    const block = this.blocks.at(-1)!
    writeHex(block.bytes, at * (NAME + TAIL), name)
    writeHex(block.bytes, at * (NAME + TAIL) + NAME, tail)
    block.rows[at] = rows
    block.sizes[at] = bytes
    block.keyed[at] = keys ? 1 : 0
    if (keys) {
      block.keys[at * 2] = BigInt(keys[0])
      block.keys[at * 2 + 1] = BigInt(keys[1])
    }
    this.length++
  }

  at(index: number): ChunkRef | undefined {
    const wanted = index < 0 ? this.length + index : index
    const block = wanted >= 0 && wanted < this.length ? this.blocks[Math.floor(wanted / PER_BLOCK)] : undefined
    if (!block) return undefined
    const at = wanted % PER_BLOCK
    const from = at * (NAME + TAIL)
    return {
      name: hexOf(block.bytes, from, NAME),
      rows: block.rows[at]!,
      bytes: block.sizes[at]!,
      keys: block.keyed[at] ? [String(block.keys[at * 2]), String(block.keys[at * 2 + 1])] : null,
      tail: hexOf(block.bytes, from + NAME, TAIL),
    }
  }

  *[Symbol.iterator](): Generator<ChunkRef> {
    for (let i = 0; i < this.length; i++) yield this.at(i)!
  }

  *entries(): Generator<[number, ChunkRef]> {
    for (let i = 0; i < this.length; i++) yield [i, this.at(i)!]
  }

  map<T>(what: (chunk: ChunkRef, index: number) => T): T[] {
    return Array.from({ length: this.length }, (_, i) => what(this.at(i)!, i))
  }

  flatMap<T>(what: (chunk: ChunkRef, index: number) => T[]): T[] {
    const all: T[] = []
    for (const [i, chunk] of this.entries()) for (const item of what(chunk, i)) all.push(item)
    return all
  }

  filter(which: (chunk: ChunkRef, index: number) => boolean): ChunkList {
    const some = new ChunkList()
    for (const [i, chunk] of this.entries()) if (which(chunk, i)) some.push(chunk)
    return some
  }

  some(which: (chunk: ChunkRef, index: number) => boolean): boolean {
    for (const [i, chunk] of this.entries()) if (which(chunk, i)) return true
    return false
  }

  every(which: (chunk: ChunkRef, index: number) => boolean): boolean {
    return !this.some((chunk, i) => !which(chunk, i))
  }

  reduce<T>(what: (sum: T, chunk: ChunkRef, index: number) => T, from: T): T {
    let sum = from
    for (const [i, chunk] of this.entries()) sum = what(sum, chunk, i)
    return sum
  }

  slice(from: number, to = this.length): ChunkList {
    return this.filter((_, i) => i >= from && i < to)
  }

  /** As the array that it stands for. */
  toJSON(): ChunkRef[] {
    return [...this]
  }
}

/** The names of chunks, one by one. */
export function* namesOfChunks(chunks: Chunks): Generator<string> {
  for (const { name } of chunks) yield name
}
