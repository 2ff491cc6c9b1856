import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { OP, scanLog, type LogChunk, type ChangeTally } from '../../core/changes/log-text'
import { copyText } from '../../core/content/copy-text'
import { positionText, type RelationMessage } from '../sources/postgres/log/pgoutput'
import { LogRecorder, type Recorded } from './recorder'
import type { StructureNote } from './structure-model'

// What a source sends, made here byte by byte as its documentation says, against what is kept of it.

type Value = string | null | undefined
type Change =
  | { op: 'insert'; table: number; row: Value[] }
  | { op: 'update'; table: number; row: Value[]; old: 'key' | 'row' | null }
  | { op: 'delete'; table: number; row: Value[]; whole: boolean }
  | { op: 'empty'; table: number }
interface Transaction {
  xid: number
  origin: string | null
  changes: Change[]
}

const EPOCH = 946_684_800_000_000n
const text = (value: string) => Buffer.concat([Buffer.from(value), Buffer.of(0)])
const number = (value: number, bytes: 1 | 2 | 4) => {
  const buffer = Buffer.alloc(bytes)
  buffer.writeUIntBE(value, 0, bytes)
  return buffer
}
const long = (value: bigint) => {
  const buffer = Buffer.alloc(8)
  buffer.writeBigUInt64BE(value)
  return buffer
}
const letter = (sign: string) => Buffer.from(sign)
const tuple = (row: Value[]) =>
  Buffer.concat([
    number(row.length, 2),
    ...row.map((value) => {
      if (value === null) return letter('n')
      if (value === undefined) return letter('u')
      const bytes = Buffer.from(value)
      return Buffer.concat([letter('t'), number(bytes.length, 4), bytes])
    }),
  ])

const OID = 5000
const relation = (table: number) =>
  Buffer.concat([
    letter('R'),
    number(OID + table, 4),
    text('public'),
    text(table === LEFT ? 'left' : `t${table}`),
    letter('d'),
    number(2, 2),
    ...['id', 'v'].map((name, i) => Buffer.concat([number(i === 0 ? 1 : 0, 1), text(name), number(25, 4), number(0, 4)])),
  ])
const begin = (at: bigint, micros: bigint, xid: number) => Buffer.concat([letter('B'), long(at), long(micros - EPOCH), number(xid, 4)])
const commit = (at: bigint, end: bigint, micros: bigint) =>
  Buffer.concat([letter('C'), number(0, 1), long(at), long(end), long(micros - EPOCH)])
const logical = (prefix: string, content: string) =>
  Buffer.concat([letter('M'), number(1, 1), long(1n), text(prefix), number(Buffer.byteLength(content), 4), Buffer.from(content)])

function messageOf(change: Change): Buffer {
  const oid = number(OID + change.table, 4)
  if (change.op === 'empty') return Buffer.concat([letter('T'), number(1, 4), number(0, 1), oid])
  if (change.op === 'insert') return Buffer.concat([letter('I'), oid, letter('N'), tuple(change.row)])
  if (change.op === 'delete') return Buffer.concat([letter('D'), oid, letter(change.whole ? 'O' : 'K'), tuple(change.row)])
  const old = change.old ? [letter(change.old === 'row' ? 'O' : 'K'), tuple(change.row)] : []
  return Buffer.concat([letter('U'), oid, ...old, letter('N'), tuple(change.row)])
}

/** A table that the vessel does not take. */
const LEFT = 3
const MICROS = 1_795_000_000_000_000n
const STEP = 1000n

/** Sends transactions, each of which ends 1,000 bytes of log after the one before. */
function send(recorder: LogRecorder, transactions: Transaction[], from = 0): void {
  for (const [i, { xid, origin, changes }] of transactions.entries()) {
    const end = BigInt(from + i + 1) * STEP
    recorder.take(begin(end - 100n, MICROS + end, xid))
    if (origin !== null) recorder.take(Buffer.concat([letter('O'), long(1n), text(origin)]))
    for (const change of changes) recorder.take(messageOf(change))
    recorder.take(commit(end - 100n, end, MICROS + end))
  }
}

interface Kept {
  chunks: { bytes: Uint8Array; meta: Omit<LogChunk, 'name'> }[]
  told: { notes: StructureNote[]; end: string }[]
  recorder: LogRecorder
}

function recorderFrom(position: bigint): Kept {
  const kept: Omit<Kept, 'recorder'> = { chunks: [], told: [] }
  let notes: StructureNote[] = []
  const recorder = new LogRecorder(positionText(position), {
    takes: (_, name) => name !== 'left',
    relationOf: ({ oid, schema, name, columns }: RelationMessage) => ({
      oid,
      schema,
      name,
      columns: columns.map((column) => column.name),
      numbers: [1, 2],
      key: [0],
      whole: false,
    }),
    timeOf: (micros) => micros,
    seen: () => null,
    chunk: (bytes, meta) => kept.chunks.push({ bytes, meta }),
    noted: (note) => void notes.push(note),
    touched: () => undefined,
    removed: () => undefined,
    structure: ({ end }) => {
      kept.told.push({ notes, end })
      notes = []
    },
    marked: () => undefined,
    between: () => undefined,
  })
  for (const table of [0, 1, 2, LEFT]) recorder.take(relation(table))
  return { ...kept, recorder }
}

/** Everything that chunks hold, one after the other, by the names of tables. */
function contentOf({ chunks }: Kept, { relations }: Recorded): string[] {
  const lines: string[] = []
  const nameOf = (index: number) => relations[index]!.name
  for (const { bytes } of chunks)
    scanLog(bytes, {
      begin: ({ xid, origin }) => void lines.push(`begin ${xid} ${origin}`),
      change: (op, index, from, to) =>
        lines.push(`${String.fromCharCode(op)} ${nameOf(index)} ${Buffer.from(bytes.subarray(from, to)).toString()}`),
      truncate: (indexes) => void lines.push(`T ${indexes.map(nameOf).join()}`),
      commit: (end) => void lines.push(`commit ${end}`),
    })
  return lines
}

const lineOf = (row: Value[]) => row.map((value) => (value === undefined ? '\\U' : copyText(value))).join('\t')

function expected(transactions: Transaction[], from = 0): string[] {
  return transactions.flatMap(({ xid, origin, changes }, i) => {
    const ofTables = changes.filter(({ table }) => table !== LEFT)
    if (ofTables.length === 0) return []
    const lines = ofTables.flatMap((change) => {
      const row = (op: number) => `${String.fromCharCode(op)} t${change.table} ${'row' in change ? lineOf(change.row) : ''}`
      if (change.op === 'empty') return [`T t${change.table}`]
      if (change.op === 'insert') return [row(OP.insert)]
      if (change.op === 'delete') return [row(change.whole ? OP.deleteRow : OP.deleteKey)]
      return [...(change.old ? [row(change.old === 'row' ? OP.oldRow : OP.oldKey)] : []), row(OP.update)]
    })
    return [`begin ${xid} ${origin}`, ...lines, `commit ${positionText(BigInt(from + i + 1) * STEP)}`]
  })
}

const sum = (tallies: ChangeTally[]): ChangeTally =>
  tallies.reduce<ChangeTally>((a, b) => a.map((n, i) => n + b[i]!) as ChangeTally, [0, 0, 0, 0])

const odd = fc.oneof(fc.string({ unit: 'grapheme' }), fc.constantFrom('\\', '\t', 'a\nb', '\\N', '\\.', '\\U', '\r\v\f\b', 'ü€💥'))
// What the server sends is text of its own, which never holds a zero byte.
const value = fc.oneof(
  odd.map((name) => name.replaceAll('\0', '')),
  fc.constant(null),
)
/** Long enough that a few of them fill a chunk. */
const heavy = fc.integer({ min: 1, max: 4 }).map((n) => 'x'.repeat(n * 300_000))
const table = fc.constantFrom(0, 1, 2, LEFT)
const row = fc.tuple(value, fc.oneof({ weight: 12, arbitrary: value }, { weight: 1, arbitrary: heavy }))
const change: fc.Arbitrary<Change> = fc.oneof(
  fc.record({ op: fc.constant('insert' as const), table, row }),
  fc.record({
    op: fc.constant('update' as const),
    table,
    row: fc.oneof(row, fc.tuple(value, fc.constant(undefined))),
    old: fc.constantFrom('key' as const, 'row' as const, null),
  }),
  fc.record({ op: fc.constant('delete' as const), table, row, whole: fc.boolean() }),
  fc.record({ op: fc.constant('empty' as const), table }),
)
const transactions = fc.array(
  fc.record({
    xid: fc.integer({ min: 3, max: 4_000_000_000 }),
    origin: fc.oneof({ weight: 5, arbitrary: fc.constant(null) }, { weight: 1, arbitrary: fc.constantFrom('east', 'a\tb\\') }),
    changes: fc.array(change, { maxLength: 12 }),
  }),
  { maxLength: 8 },
)

describe('what a source sends', () => {
  it('is kept value by value, whatever it is and wherever it is cut', () => {
    fc.assert(
      fc.property(transactions, (sent) => {
        const kept = recorderFrom(0n)
        send(kept.recorder, sent)
        const recorded = kept.recorder.finish()
        expect(contentOf(kept, recorded)).toEqual(expected(sent))
      }),
      { numRuns: 120 },
    )
  })

  it('is counted alike in chunks, in transactions and over time', () => {
    fc.assert(
      fc.property(transactions, (sent) => {
        const kept = recorderFrom(0n)
        send(kept.recorder, sent)
        const recorded = kept.recorder.finish()
        const ofTables = sent.flatMap(({ changes }) => changes.filter((change) => change.table !== LEFT))
        const of = (op: Change['op']) => ofTables.filter((each) => each.op === op).length
        const all: ChangeTally = [of('insert'), of('update'), of('delete'), of('empty')]
        expect(sum(kept.chunks.flatMap(({ meta }) => Object.values(meta.tallies)))).toEqual(all)
        expect(sum([...recorded.trace.values()])).toEqual(all)
        expect(recorded.rows).toBe(ofTables.length)
        expect(recorded.transactions).toBe(expected(sent).filter((line) => line.startsWith('commit')).length)
        expect(kept.chunks.reduce((total, { meta }) => total + meta.transactions, 0)).toBe(recorded.transactions)
        expect(kept.chunks.reduce((total, { bytes }) => total + bytes.length, 0)).toBe(recorded.bytes)
      }),
      { numRuns: 60 },
    )
  })

  it('can be read from any chunk on, which knows the transaction that is open where it begins', () => {
    fc.assert(
      fc.property(transactions, (sent) => {
        const kept = recorderFrom(0n)
        send(kept.recorder, sent)
        kept.recorder.finish()
        let open: string | null = null
        let end = positionText(0n)
        for (const { bytes, meta } of kept.chunks) {
          expect([meta.open?.xid ?? null, meta.from]).toEqual([open, end])
          scanLog(bytes, { begin: ({ xid }) => void (open = xid), commit: (at) => ((open = null), void (end = at)) })
          expect(meta.to).toBe(end)
        }
      }),
      { numRuns: 60 },
    )
  })

  it('and is in the store already is passed over, rows and all', () => {
    fc.assert(
      fc.property(transactions, fc.nat(8), (sent, stored) => {
        const kept = recorderFrom(BigInt(stored) * STEP)
        send(kept.recorder, sent)
        const recorded = kept.recorder.finish()
        expect(contentOf(kept, recorded)).toEqual(expected(sent.slice(stored), stored))
        expect(recorded.rows).toBe(sent.slice(stored).flatMap(({ changes }) => changes.filter((change) => change.table !== LEFT)).length)
      }),
      { numRuns: 60 },
    )
  })

  it('goes on after a segment was finished, with relations of its own', () => {
    const insert = (table: number): Transaction => ({ xid: 9, origin: null, changes: [{ op: 'insert', table, row: ['1', 'v'] }] })
    const kept = recorderFrom(0n)
    send(kept.recorder, [insert(2)])
    const first = kept.recorder.finish()
    send(kept.recorder, [insert(1), insert(2)], 1)
    const second = kept.recorder.finish()
    expect(first.relations.map(({ name }) => name)).toEqual(['t2'])
    expect(second.relations.map(({ name }) => name)).toEqual(['t1', 't2'])
    expect([first.from, first.to, second.from, second.to]).toEqual(['0/0', '0/3E8', '0/3E8', '0/BB8'])
    expect(contentOf({ ...kept, chunks: kept.chunks.slice(1) }, second)).toEqual(expected([insert(1), insert(2)], 1))
    expect(kept.recorder.isEmpty).toBe(true)
  })
})

describe('what our trigger writes into a log', () => {
  const sendNote = (kept: Kept, prefix: string, content: string) => {
    kept.recorder.take(begin(900n, MICROS, 7))
    kept.recorder.take(logical(prefix, content))
    expect(kept.told).toEqual([])
    kept.recorder.take(commit(900n, 1000n, MICROS))
  }
  const note = { tag: 'DROP TABLE', statement: 'drop table t1', objects: [{ kind: 'table', name: 'public.t1', oid: 1 }], columns: null }

  it('is told when it is committed, and kept with its statement', () => {
    const kept = recorderFrom(0n)
    sendNote(kept, 'unbroken_vessel', JSON.stringify(note))
    expect(kept.told).toEqual([{ notes: [note], end: '0/3E8' }])
    expect(kept.recorder.finish().changes).toMatchObject([{ tag: 'DROP TABLE', statement: 'drop table t1', end: '0/3E8', xid: '7' }])
  })

  it('is only that: what others write, or what is no note, changes no structure', () => {
    const kept = recorderFrom(0n)
    sendNote(kept, 'somebody', JSON.stringify(note))
    expect(kept.told).toEqual([])
    const other = recorderFrom(0n)
    sendNote(other, 'unbroken_vessel', '{"no": "note"')
    expect(other.told).toEqual([])
    expect(other.recorder.finish()).toMatchObject({ transactions: 1, changes: [] })
  })
})

describe('heavy transactions', () => {
  it('are those with many rows and those that empty a table, the heaviest of many', () => {
    const rows = (n: number): Change[] => Array.from({ length: n }, (_, i) => ({ op: 'insert', table: 0, row: [String(i), null] }))
    const kept = recorderFrom(0n)
    send(kept.recorder, [
      { xid: 1, origin: null, changes: rows(19) },
      { xid: 2, origin: null, changes: rows(20) },
      { xid: 3, origin: null, changes: [{ op: 'empty', table: 1 }] },
      ...Array.from({ length: 250 }, (_, i) => ({ xid: 100 + i, origin: null, changes: rows(20 + i) })),
    ])
    const { heavy: listed } = kept.recorder.finish()
    expect(listed).toHaveLength(100)
    expect(listed[0]).toMatchObject({ xid: '349', tallies: { 0: [269, 0, 0, 0] } })
    expect(listed.map(({ xid }) => Number(xid)).every((xid) => xid >= 250)).toBe(true)
  })
})
