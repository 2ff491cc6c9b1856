import type { Projection } from './columns'
import { fill, isPartial, keyOf, project } from './fields'
import { equal, hashOf, NONE, type SharedNet } from './net'

// Net changes applied to the chunks of an earlier state, each by itself and in any order.

const TAB = 9
const NEWLINE = 10

function lookUp(net: SharedNet, key: Uint8Array, from: number, to: number): number {
  const mask = net.slots.length - 1
  for (let slot = hashOf(key, from, to) & mask; net.slots[slot] !== 0; slot = (slot + 1) & mask) {
    const entry = net.slots[slot]! - 1
    if (entry < 0) continue
    if (equal(key, from, to, net.bytes, net.entries[entry * 4 + 2]!, net.entries[entry * 4 + 3]!)) return entry
  }
  return -1
}

/** What a chunk is to become. */
export interface ChunkChange {
  net: SharedNet | null
  projection: Projection | null
}

class Output {
  bytes: Uint8Array<ArrayBuffer>
  length = 0

  constructor(room: number) {
    this.bytes = new Uint8Array(room)
  }

  add(part: Uint8Array): void {
    if (this.length + part.length > this.bytes.length) {
      const larger = new Uint8Array(Math.max(this.bytes.length * 2, this.length + part.length))
      larger.set(this.bytes.subarray(0, this.length))
      this.bytes = larger
    }
    this.bytes.set(part, this.length)
    this.length += part.length
  }

  line(part: Uint8Array): void {
    this.add(part)
    if (this.length === this.bytes.length) this.add(Uint8Array.of(NEWLINE))
    else this.bytes[this.length++] = NEWLINE
  }
}

/** A chunk of an earlier state as it is after the changes; rows that are new to the table are not in it. */
export function applyTo(chunk: Uint8Array, { net, projection }: ChunkChange): Uint8Array<ArrayBuffer> {
  const output = new Output(chunk.length + 4096)
  if (net?.emptied) return new Uint8Array(0)
  const single = net && !projection && net.keyAt.length === 1 ? net.keyAt[0]! : -1
  let kept = 0
  for (let at = 0; at < chunk.length;) {
    let entry = -1
    let end: number
    if (single >= 0 && net) {
      let from = at
      for (let i = 0; i < single; i++) from = chunk.indexOf(TAB, from) + 1
      let to = from
      while (chunk[to] !== TAB && chunk[to] !== NEWLINE) to++
      entry = lookUp(net, chunk, from, to)
      end = chunk[to] === NEWLINE ? to : chunk.indexOf(NEWLINE, to)
    } else {
      end = chunk.indexOf(NEWLINE, at)
      const row = chunk.subarray(at, end)
      const line = projection ? project(row, projection) : row
      if (net) {
        const key = keyOf(line, net.keyAt)
        entry = lookUp(net, key, 0, key.length)
      }
      if (projection && entry < 0) output.line(line)
    }
    if (entry >= 0) {
      if (!projection) output.add(chunk.subarray(kept, at))
      replaced(output, net!, entry, chunk.subarray(at, end), projection)
      kept = end + 1
    }
    at = end + 1
  }
  if (!projection) output.add(chunk.subarray(kept))
  return output.bytes.slice(0, output.length)
}

function replaced(output: Output, net: SharedNet, entry: number, row: Uint8Array, projection: ChunkChange['projection']): void {
  net.found[entry] = 1
  const [from, to] = [net.entries[entry * 4]!, net.entries[entry * 4 + 1]!]
  if (from === NONE) return
  const line = net.bytes.subarray(from, to)
  output.line(isPartial(line) ? fill(line, projection ? project(row, projection) : row) : line)
}

/** Entries whose rows were not in the state before, in the order in which they came; to be asked once all chunks were applied. */
export function newEntries(net: SharedNet): number[] {
  const fresh: number[] = []
  for (let entry = 0; entry < net.entries.length / 4; entry++) {
    if (net.found[entry] === 0 && net.entries[entry * 4] !== NONE) fresh.push(entry)
  }
  return fresh
}

/** The rows of entries, each with its newline. Throws for one whose values are not all known: its row before is missing. */
export function linesOfEntries(net: SharedNet, entries: number[]): Uint8Array<ArrayBuffer> {
  const output = new Output(entries.length * 100 + 64)
  for (const entry of entries) {
    const line = net.bytes.subarray(net.entries[entry * 4]!, net.entries[entry * 4 + 1]!)
    if (isPartial(line)) throw new Error('a row that was changed is not in the state before')
    output.line(line)
  }
  return output.bytes.slice(0, output.length)
}
