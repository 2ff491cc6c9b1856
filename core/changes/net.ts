import { fill, isPartial, keyOf } from './fields'
import { OP } from './log-text'

// The net effect of changes to one table, by key. Made once, in memory that threads share, and then applied to
// the chunks of an earlier state, each by itself and in any order.

/** In place of where something begins: there is none. */
export const NONE = 0xffffffff

/** A table that grows by doubling. */
class Words {
  private words = new Uint32Array(1024)
  length = 0

  push(...values: number[]): void {
    if (this.length + values.length > this.words.length) {
      const larger = new Uint32Array(this.words.length * 2)
      larger.set(this.words)
      this.words = larger
    }
    for (const value of values) this.words[this.length++] = value
  }

  get(i: number): number {
    return this.words[i]!
  }

  set(i: number, value: number): void {
    this.words[i] = value
  }

  shared(): Uint32Array<SharedArrayBuffer> {
    const words = new Uint32Array(new SharedArrayBuffer(this.length * 4))
    words.set(this.words.subarray(0, this.length))
    return words
  }
}

export function hashOf(bytes: Uint8Array, from: number, to: number): number {
  let hash = 0x811c9dc5
  for (let i = from; i < to; i++) hash = Math.imul(hash ^ bytes[i]!, 0x01000193)
  return (hash ^ (hash >>> 15)) >>> 0
}

export function equal(a: Uint8Array, from: number, to: number, b: Uint8Array, start: number, end: number): boolean {
  if (to - from !== end - start) return false
  for (let i = from, j = start; i < to; i++, j++) if (a[i] !== b[j]) return false
  return true
}

/** Finds an entry by its key; 0 is free, -1 was given up, else it is the entry plus one. */
class KeyTable {
  slots = new Int32Array(2048)
  private used = 0

  constructor(
    private readonly bytes: () => Uint8Array,
    private readonly keyOf: (entry: number) => [number, number],
  ) {}

  find(key: Uint8Array, from: number, to: number): number {
    const mask = this.slots.length - 1
    const keyBytes = this.bytes()
    for (let slot = hashOf(key, from, to) & mask; this.slots[slot] !== 0; slot = (slot + 1) & mask) {
      const entry = this.slots[slot]! - 1
      if (entry < 0) continue
      const [start, end] = this.keyOf(entry)
      if (equal(key, from, to, keyBytes, start, end)) return entry
    }
    return -1
  }

  /** Its key must not be in the table. */
  add(entry: number): void {
    if (++this.used * 2 > this.slots.length) this.grow()
    this.place(entry)
  }

  private place(entry: number): void {
    const [from, to] = this.keyOf(entry)
    const mask = this.slots.length - 1
    let slot = hashOf(this.bytes(), from, to) & mask
    while (this.slots[slot]! > 0) slot = (slot + 1) & mask
    this.slots[slot] = entry + 1
  }

  /** Call it while the entry still has its key. */
  remove(entry: number): void {
    const [from, to] = this.keyOf(entry)
    const mask = this.slots.length - 1
    let slot = hashOf(this.bytes(), from, to) & mask
    while (this.slots[slot] !== entry + 1) slot = (slot + 1) & mask
    this.slots[slot] = -1
  }

  private grow(): void {
    const old = this.slots
    this.slots = new Int32Array(old.length * 2)
    this.used = 0
    for (const slot of old) {
      if (slot <= 0) continue
      this.used++
      this.place(slot - 1)
    }
  }
}

/** Net changes as threads share them. Of each entry: where its line, and the key of the row before, lie. */
export interface SharedNet {
  bytes: Uint8Array<SharedArrayBuffer>
  /** Four for each entry: where its line begins and ends, and the key that the row had before. */
  entries: Uint32Array<SharedArrayBuffer>
  /** By the key before: entry plus one. */
  slots: Int32Array<SharedArrayBuffer>
  /** Set for entries whose row before was found. */
  found: Uint8Array<SharedArrayBuffer>
  /** Positions of the key's columns in a line. */
  keyAt: number[]
  /** Nothing of the state before remains. */
  emptied: boolean
}

const ENTRY = 6

/** Gathers changes of one table in their order. Lines have the columns of the state that is wanted. */
export class NetChanges {
  private bytes = new Uint8Array(64 * 1024)
  private used = 0
  // Line from, line to, key before from and to, key now from and to.
  private readonly entries = new Words()
  private byBase: KeyTable
  private byKey: KeyTable
  emptied = false

  constructor(private readonly keyAt: number[]) {
    this.byBase = this.baseTable()
    this.byKey = this.keyTable()
  }

  private baseTable(): KeyTable {
    return new KeyTable(
      () => this.bytes,
      (entry) => [this.entries.get(entry * ENTRY + 2), this.entries.get(entry * ENTRY + 3)],
    )
  }

  private keyTable(): KeyTable {
    return new KeyTable(
      () => this.bytes,
      (entry) => [this.entries.get(entry * ENTRY + 4), this.entries.get(entry * ENTRY + 5)],
    )
  }

  get size(): number {
    return this.entries.length / ENTRY
  }

  /** Takes one record. `old` is the key or the old row of an update that names it. Lines end before the newline. */
  take(op: number, line: Uint8Array, old: Uint8Array | null): void {
    if (op === OP.insert) this.put(keyOf(line, this.keyAt), line)
    else if (op === OP.update) this.update(line, old)
    else this.remove(keyOf(line, this.keyAt))
  }

  truncate(): void {
    this.used = 0
    this.entries.length = 0
    this.byBase = this.baseTable()
    this.byKey = this.keyTable()
    this.emptied = true
  }

  /**
   * Takes net changes that hold all at once, as those of a differential: rows may have changed keys with each
   * other. `records` is gone over twice and must give the same both times.
   */
  takeNet(records: () => Iterable<NetRecord>): void {
    const entries: number[] = []
    for (const { before } of records()) {
      let entry = before ? this.byKey.find(before, 0, before.length) : -1
      if (before && entry < 0) entry = this.addEntry(before, null, true)
      else if (entry >= 0) this.byKey.remove(entry)
      entries.push(entry)
    }
    let i = 0
    for (const { line } of records()) {
      const entry = entries[i++]!
      if (line === null) {
        this.setLine(entry, null)
        continue
      }
      const key = keyOf(line, this.keyAt)
      if (entry < 0) {
        this.put(key, line)
        continue
      }
      this.setLine(entry, this.filled(line, entry))
      this.nameKey(entry, key)
    }
  }

  private put(key: Uint8Array, line: Uint8Array): void {
    const entry = this.byKey.find(key, 0, key.length)
    if (entry >= 0) this.setLine(entry, line)
    else this.addEntry(key, line)
  }

  private update(line: Uint8Array, old: Uint8Array | null): void {
    const key = keyOf(line, this.keyAt)
    const before = old ? keyOf(old, this.keyAt) : key
    const entry = this.byKey.find(before, 0, before.length)
    if (entry < 0) {
      // The row is one of the state before, under its old key.
      const made = this.addEntry(before, line)
      if (!equal(before, 0, before.length, key, 0, key.length)) this.rekey(made, key)
      return
    }
    this.setLine(entry, this.filled(line, entry))
    if (!equal(before, 0, before.length, key, 0, key.length)) this.rekey(entry, key)
  }

  private remove(key: Uint8Array): void {
    const entry = this.byKey.find(key, 0, key.length)
    if (entry < 0) this.addEntry(key, null)
    else this.setLine(entry, null)
  }

  private addEntry(key: Uint8Array, line: Uint8Array | null, nameless = false): number {
    // A row of the state before that went away under this key stays away, whatever comes after it.
    const taken = this.byBase.find(key, 0, key.length) >= 0
    const entry = this.size
    const at = this.append(key)
    const end = at + key.length
    this.entries.push(NONE, NONE, taken ? NONE : at, taken ? NONE : end, at, end)
    if (!taken) this.byBase.add(entry)
    if (!nameless) this.byKey.add(entry)
    this.setLine(entry, line)
    return entry
  }

  private rekey(entry: number, key: Uint8Array): void {
    this.byKey.remove(entry)
    this.nameKey(entry, key)
  }

  private nameKey(entry: number, key: Uint8Array): void {
    // Whoever had the new key is gone already: the source does not let two rows have one.
    const other = this.byKey.find(key, 0, key.length)
    if (other >= 0) this.byKey.remove(other)
    const at = this.append(key)
    this.entries.set(entry * ENTRY + 4, at)
    this.entries.set(entry * ENTRY + 5, at + key.length)
    this.byKey.add(entry)
  }

  private setLine(entry: number, line: Uint8Array | null): void {
    const [from, to] = [this.entries.get(entry * ENTRY), this.entries.get(entry * ENTRY + 1)]
    let at = NONE
    // A row that changes again and again takes the place that it has, if it fits.
    if (line !== null && from !== NONE && line.length <= to - from) this.bytes.set(line, (at = from))
    else if (line !== null) at = this.append(line)
    this.entries.set(entry * ENTRY, at)
    this.entries.set(entry * ENTRY + 1, line === null ? NONE : at + line.length)
  }

  /** Values that did not change are those of the line before, where one is known. */
  private filled(line: Uint8Array, entry: number): Uint8Array {
    if (!isPartial(line)) return line
    const [from, to] = [this.entries.get(entry * ENTRY), this.entries.get(entry * ENTRY + 1)]
    return from === NONE ? line : fill(line, this.bytes.subarray(from, to))
  }

  private append(part: Uint8Array): number {
    const at = this.used
    if (at + part.length > this.bytes.length) {
      const larger = new Uint8Array(Math.max(this.bytes.length * 2, at + part.length))
      larger.set(this.bytes.subarray(0, at))
      this.bytes = larger
    }
    this.bytes.set(part, at)
    this.used += part.length
    return at
  }

  share(): SharedNet {
    const bytes = new Uint8Array(new SharedArrayBuffer(this.used))
    bytes.set(this.bytes.subarray(0, this.used))
    const entries = new Words()
    for (let i = 0; i < this.size; i++) {
      for (let j = 0; j < 4; j++) entries.push(this.entries.get(i * ENTRY + j))
    }
    const slots = new Int32Array(new SharedArrayBuffer(this.byBase.slots.length * 4))
    slots.set(this.byBase.slots)
    const found = new Uint8Array(new SharedArrayBuffer(Math.max(1, this.size)))
    return { bytes, entries: entries.shared(), slots, found, keyAt: this.keyAt, emptied: this.emptied }
  }
}

/** One net change: a row of the state before, by its key, and what it has become. */
export interface NetRecord {
  /** Null for a row that is new under a key that another one had. */
  before: Uint8Array | null
  /** Null when it is gone. */
  line: Uint8Array | null
}

/** The net changes, to be taken up again by `takeNet`. */
export function* netRecords(net: SharedNet): Generator<NetRecord> {
  for (let at = 0; at < net.entries.length; at += 4) {
    const [from, to, start, end] = net.entries.subarray(at, at + 4)
    const before = start === NONE ? null : net.bytes.subarray(start, end)
    const line = from === NONE ? null : net.bytes.subarray(from, to)
    if (before || line) yield { before, line }
  }
}
