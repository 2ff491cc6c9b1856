import { positionOf } from '../../core/chain/position'
import {
  addTally,
  beginLine,
  OP,
  type HeavyTransaction,
  type LogChunk,
  type LogRelation,
  type StructureChange,
  type ChangeTally,
  type TransactionStart,
} from '../../core/changes/log-text'
import { copyText } from '../../core/content/copy-text'
import { LineBuffer, MESSAGE, MessageReader, readMessage, readRelation, type RelationMessage } from '../sources/postgres/log/pgoutput'
import { OURS, OWN } from '../sources/postgres/event-triggers'
import { PAD } from '../sources/postgres/log/note-structure'
import type { StructureNote } from './structure-model'

/** A chunk is given away when it has grown to this. */
const CHUNK_BYTES = 1024 * 1024
/** Transactions that changed this many rows or more are listed, the heaviest of each segment. */
const HEAVY_ROWS = 20
const HEAVY_LISTED = 100
// How the source marks the old version of a row: the whole of it, or its key.
const OLD_ROW = 79
const OLD_KEY = 75

/** Marks of ours in the log begin with this. */
export const MARK = `${OURS}_mark`

export interface RecorderOptions {
  /** Whether a table is one that the vessel takes. */
  takes(schema: string, name: string): boolean
  /** A relation of the log with the numbers of its columns, where they are known by now; */
  relationOf(message: RelationMessage): LogRelation
  /** The source's time, in the time of the engine; both in microseconds. */
  timeOf(micros: number): number
  /** Who was seen at a transaction. */
  seen(xid: string): HeavyTransaction['by']
  chunk(bytes: Uint8Array<ArrayBuffer>, meta: Omit<LogChunk, 'name'>): void
  /** The structure was changed, in a transaction that goes on. */
  noted(note: StructureNote): void
  /** A transaction that changed the structure was committed. */
  structure(transaction: StructureTransaction): void
  /** A transaction that changed rows of a table was committed. */
  touched(relation: LogRelation, end: string): unknown
  /** A transaction that deleted rows, or emptied tables, was committed. */
  removed(transaction: Omit<HeavyTransaction, 'tallies'>, changes: [LogRelation, ChangeTally][]): void
  /** A mark of ours came by in the log, in a transaction that was committed. */
  marked(mark: string, end: string): void
  /** A transaction is over, and no other one is open. */
  between(): void
}

/** A transaction that changed the structure, with what the source told of who did what. */
export interface StructureTransaction extends TransactionStart {
  end: string
  by: HeavyTransaction['by']
  statement: string | null
  /** What went along with what was dropped. */
  went: { kind: string; name: string }[]
  /** Whether a restore or an undo of ours did it. */
  isOurs: boolean
}

/** What a stretch of log held; the chunks went their own way. */
export interface Recorded {
  from: string
  to: string
  /** Of the last commit, since 1970; null when there was none. */
  lastCommitMs: number | null
  relations: LogRelation[]
  transactions: number
  heavy: HeavyTransaction[]
  changes: StructureChange[]
  trace: Map<string, ChangeTally>
  bytes: number
  rows: number
}

/**
 * Turns the messages of a source's log into the records of ours (core/changes/log-text.ts), chunk by chunk. A
 * transaction of any length passes through one chunk's memory.
 */
export class LogRecorder {
  private readonly lines = new LineBuffer(CHUNK_BYTES * 2)
  private readonly known = new Map<number, LogRelation | null>()
  private indexes = new Map<LogRelation, number>()
  private recorded: Recorded
  private chunk: {
    open: TransactionStart | null
    from: string
    firstAt: number
    lastAt: number
    transactions: number
    tallies: Record<number, ChangeTally>
  }
  private transaction: TransactionStart | null = null
  /** Whether the open transaction is in the store already. */
  private passing = false
  /** Whether the open transaction has a record yet. */
  private begun = false
  private tallies: Record<number, ChangeTally> = {}
  private notes: StructureNote[] = []
  private marks: string[] = []
  /** Whether the open transaction is one of a restore or an undo. */
  private isOurs = false

  /** @param position everything up to here is in the store already, and is passed over when it comes again */
  constructor(
    private position: string,
    private readonly options: RecorderOptions,
  ) {
    this.recorded = this.fresh()
    this.chunk = this.freshChunk()
  }

  private fresh(): Recorded {
    return {
      from: this.position,
      to: this.position,
      lastCommitMs: null,
      relations: [],
      transactions: 0,
      heavy: [],
      changes: [],
      trace: new Map(),
      bytes: 0,
      rows: 0,
    }
  }

  private freshChunk(): LogRecorder['chunk'] {
    const open = this.begun ? this.transaction : null
    return { open, from: this.position, firstAt: open?.at ?? 0, lastAt: open?.at ?? 0, transactions: 0, tallies: {} }
  }

  get isOpen(): boolean {
    return this.transaction !== null
  }

  /** Whether anything was recorded since the last segment. */
  get isEmpty(): boolean {
    return this.recorded.transactions === 0 && !this.begun
  }

  get size(): number {
    return this.recorded.bytes + this.lines.length
  }

  take(message: Buffer): void {
    switch (message[0]) {
      case MESSAGE.begin:
        return this.begin(message)
      case MESSAGE.commit:
        return this.commit(message)
      case MESSAGE.relation:
        return this.relation(message)
    }
    if (!this.passing) this.change(message)
  }

  private change(message: Buffer): void {
    switch (message[0]) {
      case MESSAGE.insert:
      case MESSAGE.update:
      case MESSAGE.delete:
        return this.row(message)
      case MESSAGE.truncate:
        return this.truncate(message)
      case MESSAGE.origin:
        return this.origin(message)
      case MESSAGE.logical:
        return this.message(message)
    }
  }

  private begin(message: Buffer): void {
    const reader = new MessageReader(message)
    const position = reader.position()
    const at = this.options.timeOf(reader.time())
    this.transaction = { position, at, xid: String(reader.int32()), origin: null }
    // It tells where its commit begins; the store ends where one ends.
    this.passing = positionOf(position)! < positionOf(this.position)!
  }

  private origin(message: Buffer): void {
    const reader = new MessageReader(message)
    reader.position()
    this.transaction!.origin = reader.text()
  }

  private relation(message: Buffer): void {
    const read = readRelation(message)
    this.known.set(read.oid, this.options.takes(read.schema, read.name) ? this.options.relationOf(read) : null)
  }

  private row(message: Buffer): void {
    const relation = this.known.get(message.readUInt32BE(1))
    if (!relation) return
    this.ensureBegun()
    const index = this.indexOf(relation)
    const kind = message[0]!
    let at = 5
    if (kind === MESSAGE.update) {
      const part = message[at]!
      if (part === OLD_ROW) at = this.line(OP.oldRow, index, message, at + 1)
      else if (part === OLD_KEY) at = this.line(OP.oldKey, index, message, at + 1)
      this.line(OP.update, index, message, at + 1)
    } else if (kind === MESSAGE.insert) this.line(OP.insert, index, message, at + 1)
    else this.line(message[at] === OLD_ROW ? OP.deleteRow : OP.deleteKey, index, message, at + 1)
    this.count(index, kind === MESSAGE.insert ? [1, 0, 0, 0] : kind === MESSAGE.update ? [0, 1, 0, 0] : [0, 0, 1, 0])
    this.cutIfFull()
  }

  private line(op: number, index: number, message: Buffer, from: number): number {
    this.lines.byte(op)
    this.lines.text(`\t${index}\t`)
    const at = this.lines.tuple(message, from)
    this.lines.byte(10)
    return at
  }

  private truncate(message: Buffer): void {
    const reader = new MessageReader(message)
    const count = reader.int32()
    const flags = reader.int8()
    const oids = Array.from({ length: count }, () => reader.int32())
    const relations = oids.flatMap((oid) => this.known.get(oid) ?? [])
    if (relations.length === 0) return
    this.ensureBegun()
    const indexes = relations.map((relation) => this.indexOf(relation))
    this.lines.text(`T\t${flags}\t${indexes.join('\t')}\n`)
    for (const index of indexes) this.count(index, [0, 0, 0, 1])
    this.cutIfFull()
  }

  private message(message: Buffer): void {
    const { prefix, content } = readMessage(message)
    // Those outside of transactions have no place in their order.
    if (!this.transaction || prefix === PAD) return
    // What we put back is no loss of anybody's.
    if (prefix === OWN) {
      this.isOurs = true
      return
    }
    if (prefix === OURS) {
      const note = parseNote(content)
      if (note) {
        this.notes.push(note)
        this.options.noted(note)
      }
    } else if (prefix === MARK) this.marks.push(content)
    this.ensureBegun()
    this.lines.text(`M\t${copyText(prefix)}\t${copyText(content)}\n`)
    this.cutIfFull()
  }

  private ensureBegun(): void {
    if (this.begun) return
    this.begun = true
    const transaction = this.transaction!
    this.chunk.firstAt ||= transaction.at
    this.lines.text(beginLine(transaction))
  }

  private indexOf(relation: LogRelation): number {
    let index = this.indexes.get(relation)
    if (index === undefined) {
      index = this.recorded.relations.push(relation) - 1
      this.indexes.set(relation, index)
    }
    return index
  }

  private count(index: number, tally: ChangeTally): void {
    const add = (tallies: Record<number, ChangeTally>) => {
      const sums = tallies[index]
      if (!sums) tallies[index] = [...tally]
      else for (let i = 0; i < 4; i++) sums[i]! += tally[i]!
    }
    add(this.tallies)
    add(this.chunk.tallies)
    this.recorded.rows++
  }

  private commit(message: Buffer): void {
    const reader = new MessageReader(message)
    reader.int8()
    reader.position()
    const end = reader.position()
    const transaction = this.transaction!
    const { begun, notes, marks, tallies, isOurs } = this
    this.transaction = null
    this.begun = false
    this.notes = []
    this.marks = []
    this.isOurs = false
    this.tallies = {}
    this.passing = false
    if (begun) this.over(transaction, end, { tallies, notes, isOurs })
    if (notes.length > 0) this.options.structure({ ...this.toldBy(notes, transaction, end), isOurs })
    for (const mark of marks) this.options.marked(mark, end)
    this.options.between()
  }

  private toldBy(notes: StructureNote[], transaction: TransactionStart, end: string): Omit<StructureTransaction, 'isOurs'> {
    // What was typed to drop something stands for a transaction that did more.
    const dropping = notes.find(({ gone }) => (gone?.length ?? 0) > 0) ?? notes[0]
    const by = notes.find((note) => note.by)?.by ?? this.options.seen(transaction.xid)
    return { ...transaction, end, by, statement: dropping?.statement ?? null, went: notes.flatMap(({ went }) => went ?? []) }
  }

  private over(
    transaction: TransactionStart,
    end: string,
    { tallies, notes, isOurs }: { tallies: Record<number, ChangeTally>; notes: StructureNote[]; isOurs: boolean },
  ): void {
    this.lines.text(`C\t${end}\n`)
    const { recorded } = this
    this.position = recorded.to = end
    recorded.transactions++
    this.chunk.transactions++
    this.chunk.lastAt = Math.max(this.chunk.lastAt, transaction.at)
    recorded.lastCommitMs = Math.max(recorded.lastCommitMs ?? 0, Math.floor(transaction.at / 1000))
    const second = Math.floor(transaction.at / 1e6)
    for (const [index, tally] of Object.entries(tallies)) {
      this.options.touched(recorded.relations[Number(index)]!, end)
      const key = `${second} ${index}`
      recorded.trace.set(key, addTally(recorded.trace.get(key) ?? [0, 0, 0, 0], tally))
    }
    for (const { tag, statement, objects, rewritten } of notes) {
      // That a table is written anew is told ahead of the change that does it.
      if (rewritten) continue
      const { at, xid } = transaction
      const named = (objects ?? []).map(({ kind, name }) => ({ kind, name }))
      recorded.changes.push({ end, at, xid, tag, statement: statement ?? null, objects: named })
    }
    this.weigh(transaction, end, tallies, isOurs)
    this.cutIfFull()
  }

  private weigh(transaction: TransactionStart, end: string, tallies: Record<number, ChangeTally>, isOurs: boolean): void {
    const rows = rowsOf(tallies)
    const emptied = Object.values(tallies).some((tally) => tally[3] > 0)
    const by = this.options.seen(transaction.xid)
    if (!isOurs && (emptied || Object.values(tallies).some((tally) => tally[2] > 0))) {
      const changes = Object.entries(tallies).map(([index, tally]): [LogRelation, ChangeTally] => [
        this.recorded.relations[Number(index)]!,
        tally,
      ])
      this.options.removed({ ...transaction, end, by }, changes)
    }
    if (rows < HEAVY_ROWS && !emptied) return
    const { heavy } = this.recorded
    heavy.push({ ...transaction, end, by, tallies })
    if (heavy.length <= HEAVY_LISTED * 2) return
    heavy.sort((a, b) => rowsOf(b.tallies) - rowsOf(a.tallies))
    heavy.length = HEAVY_LISTED
  }

  private cutIfFull(): void {
    if (this.lines.length >= CHUNK_BYTES) this.cut()
  }

  private cut(): void {
    const bytes = this.lines.take()
    const { open, from, firstAt, lastAt, transactions, tallies } = this.chunk
    this.recorded.bytes += bytes.length
    const meta = {
      bytes: bytes.length,
      open,
      from,
      to: this.position,
      firstAt,
      lastAt: Math.max(lastAt, this.transaction?.at ?? 0),
      transactions,
      tallies,
    }
    this.chunk = this.freshChunk()
    this.options.chunk(bytes, meta)
  }

  /** Ends the stretch, between transactions, and begins the next one. */
  finish(): Recorded {
    if (this.lines.length > 0) this.cut()
    const { recorded } = this
    recorded.heavy.sort((a, b) => rowsOf(b.tallies) - rowsOf(a.tallies))
    recorded.heavy.length = Math.min(recorded.heavy.length, HEAVY_LISTED)
    this.recorded = this.fresh()
    this.indexes = new Map()
    this.chunk = this.freshChunk()
    return recorded
  }

  /** Relations are asked for anew, after the structure was read. */
  relationsChanged(of: (relation: LogRelation) => LogRelation): void {
    for (const [oid, relation] of this.known) if (relation) this.known.set(oid, of(relation))
  }
}

export const rowsOf = (tallies: Record<number, ChangeTally>): number =>
  Object.values(tallies).reduce((sum, [inserted, updated, deleted]) => sum + inserted + updated + deleted, 0)

function parseNote(content: string): StructureNote | null {
  try {
    const note = JSON.parse(content) as StructureNote
    return typeof note.tag === 'string' ? note : null
  } catch {
    return null
  }
}
