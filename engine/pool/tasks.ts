import { bytesOf } from '../../core/content/text'
import { createHmac } from 'node:crypto'
import { Decoder, Encoder } from '@toondepauw/node-zstd'
import { collect } from './collect'
import { linesOf, rawFields } from '../../core/compare/rows'
import type { Column } from '../../core/content/manifest'
import { applyTo, type ChunkChange } from '../../core/changes/apply'
import { RowChunker, tallyRows, type RowsTally } from '../../core/content/rows'
import { filterOf, needleOf, type Ready } from '../../core/look/filter'
import { csvLine, insertWriter, jsonWriter } from '../../core/look/formats'
import { sumsOf, type Ranges } from '../compare/buckets'
import { seal, unseal } from '../secrets/seal'
import { keyOfChunk, type ChunkKey } from '../store/keys'
import { digesting } from './digest'

// What runs on worker threads: everything about content that costs time and needs no I/O.

/** How a chunk's bytes lie in a pack. */
export const CODEC = { zstd: 1, delta: 2, raw: 3 } as const
export type Codec = (typeof CODEC)[keyof typeof CODEC]

export interface SealedChunk {
  codec: Codec
  sealed: Uint8Array<ArrayBuffer>
}

export interface SealTask {
  plain: Uint8Array<ArrayBuffer>
  name: Uint8Array
  chunkKey: ChunkKey
  /** Plain bytes of a similar chunk, and its name, to store only the difference. */
  base: Uint8Array<ArrayBuffer> | null
  baseName: Uint8Array | null
}

export type OpenTask = SealedTask | { plain: Uint8Array<ArrayBuffer> }

export interface SealedTask {
  sealed: Uint8Array
  codec: Codec
  name: Uint8Array
  chunkKey: ChunkKey
  nameKey: Uint8Array
  base: Uint8Array | null
  baseName: Uint8Array | null
  /** What the chunk is to become, when another state is wanted than the one that is stored. */
  change?: ChunkChange
}

// Level 1 is the fastest. A difference needs a level whose window reaches back over the whole base, which the
// low ones do for small bases only.
const encoder = new Encoder(1)
const decoder = new Decoder()
const DELTA_LEVELS = [
  [900_000, 3],
  [1_400_000, 5],
  [Infinity, 9],
] as const
const deltaLevel = (bytes: number) => DELTA_LEVELS.find(([most]) => bytes <= most)![1]
// A difference that is not much smaller is not worth a second chunk to read.
const DELTA_WORTH = 0.5

const copied = (buffer: Uint8Array): Uint8Array<ArrayBuffer> => {
  const whole = buffer.byteOffset === 0 && buffer.byteLength === buffer.buffer.byteLength
  // A Buffer's own slice would be a view of memory that it shares with others.
  return (whole ? buffer : Uint8Array.prototype.slice.call(buffer)) as Uint8Array<ArrayBuffer>
}

/** The name of what has a digest: it is keyed, so that it says nothing outside of its store. */
export const nameOf = (digest: Uint8Array, key: Uint8Array) => createHmac('sha256', key).update(digest).digest()

export function nameTask({ plain, key }: { plain: Uint8Array; key: Uint8Array }): Uint8Array<ArrayBuffer> {
  return copied(nameOf(digesting().update(plain).digest(), key))
}

export function sealTask(task: SealTask): SealedChunk {
  const { codec, bytes } = compress(task)
  const context = contextOf(task.name, codec, codec === CODEC.delta ? task.baseName : null)
  return { codec, sealed: copied(seal(keyOfChunk(task.chunkKey, task.name), bytes, context)) }
}

export function compress({ plain, base }: { plain: Uint8Array; base: Uint8Array | null }): { codec: Codec; bytes: Uint8Array } {
  const input = Buffer.from(plain.buffer, plain.byteOffset, plain.byteLength)
  if (base) {
    const delta = new Encoder(deltaLevel(Math.max(base.length, input.length)), Buffer.from(base)).encodeSync(input)
    // It holds megabytes of native memory that the engine of JavaScript does not see, which would let hundreds of them lie.
    collect()
    // Typical rows compress to a third; a difference has to beat half of that.
    if (delta.length < (input.length / 3) * DELTA_WORTH) return { codec: CODEC.delta, bytes: delta }
  }
  const packed = encoder.encodeSync(input)
  return packed.length < input.length ? { codec: CODEC.zstd, bytes: packed } : { codec: CODEC.raw, bytes: input }
}

/** Opens a sealed chunk and makes sure that it is the one that it is named after. Throws otherwise. */
export function openTask(task: OpenTask): Uint8Array<ArrayBuffer> {
  if ('plain' in task) return task.plain
  const stored = openStored(task)
  return task.change ? applyTo(stored, task.change) : stored
}

function openStored(task: SealedTask): Uint8Array<ArrayBuffer> {
  const context = contextOf(task.name, task.codec, task.codec === CODEC.delta ? task.baseName : null)
  const packed = unseal(keyOfChunk(task.chunkKey, task.name), task.sealed, context)
  const plain = decompress(task, packed)
  if (!nameOf(digesting().update(plain).digest(), task.nameKey).equals(Buffer.from(task.name)))
    throw new Error('the content does not have the name it is kept under')
  return copied(plain)
}

export type ScanTask = OpenTask & {
  filter: Ready[]
  /** The first row to look at, and how many may be found at most. */
  from: number
  limit: number
}

/** Rows of a chunk that satisfy a filter: their positions, and their lines. */
export interface Scanned {
  at: number[]
  lines: string[]
  /** Rows that were looked at, from the beginning of the chunk. */
  looked: number
}

export function scanTask(task: ScanTask): Scanned {
  const plain = openTask(task)
  const needle = needleOf(task.filter)
  if (needle !== null && !Buffer.from(plain.buffer, plain.byteOffset, plain.byteLength).includes(needle))
    return { at: [], lines: [], looked: Infinity }
  const holds = filterOf(task.filter)
  const found: Scanned = { at: [], lines: [], looked: 0 }
  for (const line of linesOf([plain])) {
    const position = found.looked++
    if (position < task.from || !holds(line)) continue
    found.at.push(position)
    found.lines.push(line)
    if (found.at.length >= task.limit) return found
  }
  return { ...found, looked: Infinity }
}

export type ConvertTask = OpenTask & {
  format: 'csv' | 'jsonl' | 'insert'
  filter: Ready[]
  /** Rows that are wanted, by the text of their key columns; null for all. */
  keys: { at: number[]; wanted: Set<string> } | null
  /** Where each column that is written stands in the rows; null when that is their own order. */
  order: number[] | null
  target: { schema: string; name: string }
  columns: string[]
  types: Pick<Column, 'name' | 'type' | 'base'>[]
}

/** The rows of a chunk in an open format. */
export function convertTask(task: ConvertTask): { bytes: Uint8Array<ArrayBuffer>; rows: number } {
  const write =
    task.format === 'csv'
      ? csvLine
      : task.format === 'jsonl'
        ? jsonWriter(task.columns, task.types)
        : insertWriter(task.target, task.columns)
  const holds = filterOf(task.filter)
  const { keys, order } = task
  let rows = 0
  let text = ''
  for (const line of linesOf([openTask(task)])) {
    if (!holds(line) || (keys && !keys.wanted.has(rawFields(line, keys.at).join('\t')))) continue
    text += write(order ? rawFields(line, order).join('\t') : line)
    rows++
  }
  return { bytes: bytesOf(text), rows }
}

export type ReckonTask = OpenTask & {
  /** Position of the single integer key, or -1. */
  keyColumn: number
}

/** What a chunk comes to after its change, without its bytes. */
export interface Reckoned extends RowsTally {
  /** What it was before. */
  before: RowsTally
  keys: [string, string] | null
  tail: string
}

export function reckonTask(task: ReckonTask): Reckoned {
  const stored = 'plain' in task ? new Uint8Array(0) : openStored(task)
  const changed = 'plain' in task ? task.plain : task.change ? applyTo(stored, task.change) : stored
  // One chunk, whatever its length.
  const whole = new RowChunker({ keyColumn: task.keyColumn, min: changed.length + 1024, max: changed.length + 1024 })
  for (const _ of whole.push(changed)) throw new Error('a chunk was cut that was to stay whole')
  const chunk = whole.finish()
  const keys = chunk?.keys ? ([String(chunk.keys.min), String(chunk.keys.max)] as [string, string]) : null
  return { ...whole.tally(), before: tallyRows([stored]), keys, tail: chunk?.tail ?? '' }
}

export type SumsTask = OpenTask & { ranges: Ranges }

export function sumsTask(task: SumsTask): ReturnType<typeof sumsOf> {
  return sumsOf(openTask(task), task.ranges)
}

function decompress({ codec, base }: SealedTask, packed: Buffer): Uint8Array {
  if (codec === CODEC.raw) return packed
  if (codec === CODEC.zstd) return decoder.decodeSync(packed)
  if (!base) throw new Error('the chunk is a difference, and its base is missing')
  const plain = new Decoder(Buffer.from(base)).decodeSync(packed)
  collect()
  return plain
}

export function contextOf(name: Uint8Array, codec: Codec, base: Uint8Array | null): Uint8Array {
  return Buffer.concat([name, Buffer.of(codec), ...(base ? [base] : [])])
}
