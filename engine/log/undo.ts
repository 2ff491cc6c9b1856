import { namesOfChunks } from '../../core/content/chunk-list'
import { fieldsOf, linesOf, rawFields, rowKey } from '../../core/compare/rows'
import { positionOf } from '../../core/chain/position'
import { refAtPosition } from '../../core/chain/moment-ref'
import { isUndone, undoRow, type UndoChoice, type UndoRow } from '../../core/changes/undo'
import type { HeavyTransaction } from '../../core/changes/log-text'
import type { TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { qualified, quoteIdentifier, quoteLiteral } from '../../core/restore/sql'
import { namesOf, pathOf } from '../../core/things/thing'
import { accessOf } from '../catalog/sources'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { openPoint, rowsOf, tableIn } from '../points/open'
import { copyOut } from '../sources/postgres/copy-out'
import { connect } from '../sources/postgres/connect'
import { describeTables } from '../sources/postgres/describe'
import type { Store } from '../store/store'
import { changesOf, changesOfTransaction, segmentsBackwards, type LoggedChange, type Segment } from './read'
import type pg from 'pg'

/** A transaction by where it lies in the log of a member. */
export interface TransactionRef {
  member: string
  position: string
  end: string
}

/** Something that touched a row after the transaction. */
export interface LaterChange {
  xid: string
  at: number
  op: LoggedChange['op']
}

export interface UndoTable {
  oid: number
  path: string
  schema: string
  name: string
  columns: string[]
  types: string[]
  key: string[]
  rows: (UndoRow & { later: LaterChange[] })[]
}

export interface UndoPlan {
  xid: string
  at: number
  by: HeavyTransaction['by']
  tables: UndoTable[]
}

/** More than this is restored table by table instead. */
const MOST_ROWS = 20_000

const refuse = (code: string, what: string, next: string) =>
  new VesselError(code, { what, touched: 'Nothing was changed.', next, status: 409 })

/**
 * The changes of a transaction that is to be undone.
 * @throws VesselError when it is not in the log, or can't be undone row by row
 */
export async function changesToUndo(
  engine: EngineContext,
  vessel: Vessel,
  ref: TransactionRef,
): Promise<{ changes: LoggedChange[]; segment: Segment }> {
  const found = await changesOfTransaction(engine, vessel.id, ref.member, ref, MOST_ROWS + 1)
  if (!found || found.changes.length === 0)
    throw refuse('transaction_missing', 'This transaction is not in the log of this vessel.', 'Choose one on its lifeline.')
  const { changes } = found
  const emptied = changes.find(({ op }) => op === 'empty')
  if (emptied)
    throw refuse(
      'undo_emptied',
      `This transaction emptied ${emptied.relation.schema}.${emptied.relation.name} as a whole.`,
      'Bring that table back to just before it instead.',
    )
  if (changes.length > MOST_ROWS)
    throw refuse(
      'undo_too_large',
      `This transaction changed more than ${MOST_ROWS.toLocaleString('en')} rows.`,
      'Bring its tables back to just before it instead.',
    )
  return found
}

/** What undoing one transaction would do, row by row, against what the source holds now. */
export async function planUndo(engine: EngineContext, vessel: Vessel, ref: TransactionRef): Promise<UndoPlan> {
  const plan = await everyRowOf(engine, vessel, ref)
  return { ...plan, tables: plan.tables.map(withoutIdle) }
}

/** Rows that are as they were before the transaction need nothing. */
const withoutIdle = (table: UndoTable): UndoTable => ({
  ...table,
  rows: table.rows.filter(({ act, conflict }) => act !== 'nothing' || conflict !== null),
})

/** Rows of a plan once more against what the source holds by now; the caller keeps others from changing them. */
export async function asTheyAreNow(client: pg.Client, table: UndoTable): Promise<UndoTable> {
  const now = await heldNow(client, table, table.rows)
  return withoutIdle({ ...table, rows: table.rows.map((row, i) => ({ ...undoRow({ ...row, now: now[i]! }), later: row.later })) })
}

/** What the source holds now for each of some rows of a plan; null where there is none. */
export async function heldNow(client: pg.Client, table: UndoTable, rows: UndoRow[]): Promise<(string[] | null)[]> {
  const [described] = await describeTables(client, [{ schema: table.schema, name: table.name }])
  const at = table.key.map((column) => table.columns.indexOf(column))
  const keys = rows.map(({ before, after, now }) => at.map((i) => (before ?? after ?? now)![i]).join('\t'))
  const found = await rowsNow(client, { ...described!, columns: table.columns }, table.key, new Set(keys))
  return keys.map((key) => found.get(key) ?? null)
}

/** Every row that a transaction touched, also those that need nothing. */
export async function everyRowOf(engine: EngineContext, vessel: Vessel, ref: TransactionRef): Promise<UndoPlan> {
  const { changes, segment } = await changesToUndo(engine, vessel, ref)
  const { xid, at } = changes[0]!.transaction
  const [source, database] = namesOf(ref.member)
  const access = await accessOf(engine, source!)
  const before = refAtPosition(vessel.slug, source!, ref.position, at)
  const client = await connect(access, database)
  try {
    const tables: UndoTable[] = []
    for (const some of byTable(changes))
      tables.push(await planTable(engine, vessel, { before, ref, source: source!, database: database! }, some, client))
    const heavy = segment.log.heavy.find(({ position }) => position === ref.position)
    return { xid, at, by: heavy?.by ?? null, tables }
  } finally {
    await client.end().catch(() => undefined)
  }
}

function byTable(changes: LoggedChange[]): LoggedChange[][] {
  const tables = new Map<number, LoggedChange[]>()
  for (const change of changes) tables.set(change.relation.oid, [...(tables.get(change.relation.oid) ?? []), change])
  return [...tables.values()]
}

async function planTable(
  engine: EngineContext,
  vessel: Vessel,
  where: { before: string; ref: TransactionRef; source: string; database: string },
  changes: LoggedChange[],
  client: pg.Client,
): Promise<UndoTable> {
  const { schema, name } = changes[0]!.relation
  const path = pathOf(where.source, where.database, schema, name)
  const point = await openPoint(engine, where.before, rowsOf(path))
  const { table } = tableIn(point, path)
  const relation = changes[0]!.relation
  const key = relation.key.map((at) => relation.columns[at]!)
  if (key.length === 0)
    throw refuse(
      'undo_no_key',
      `${schema}.${name} has no key by which its rows could be found.`,
      'Bring the table back to just before it instead.',
    )
  const touched = touchedKeys(changes, relation.key)
  const earlier = await rowsByKey(point.store, table, key, touched)
  const now = await rowsNow(client, table, key, touched)
  const after = afterwards(changes, table, relation.key, earlier)
  const later = await laterChanges(engine, vessel.id, where.ref, relation.oid, touched)
  const rows = [...touched].map((fields) => ({
    ...undoRow({
      key: fields.split('\t').map((field) => fieldsOf(field)[0] ?? ''),
      before: earlier.get(fields) ?? null,
      after: after.get(fields) ?? null,
      now: now.get(fields) ?? null,
    }),
    later: later.get(fields) ?? [],
  }))
  const types = table.columns.map((column) => table.structure.columns.find((candidate) => candidate.name === column)!.type)
  return {
    oid: relation.oid,
    path,
    schema,
    name,
    columns: table.columns,
    types,
    key,
    // A row that came and went within the transaction is none.
    rows: rows.filter(({ before: was, after }) => was !== null || after !== null),
  }
}

function touchedKeys(changes: LoggedChange[], key: number[]): Set<string> {
  const keys = new Set<string>()
  for (const { old, row } of changes) for (const line of [old, row]) if (line !== null) keys.add(rawFields(line, key).join('\t'))
  return keys
}

/** Rows as the transaction left them, by key, as raw fields; values that it did not write are those of before. */
function afterwards(
  changes: LoggedChange[],
  table: TableManifest,
  key: number[],
  before: Map<string, string[]>,
): Map<string, string[] | null> {
  const rows = new Map<string, string[] | null>([...before].map(([key, row]) => [key, row]))
  for (const { relation, old, row } of changes) {
    const keyOf = (line: string) => rawFields(line, key).join('\t')
    const from = old !== null ? keyOf(old) : row !== null ? keyOf(row) : ''
    if (row === null) {
      rows.set(from, null)
      continue
    }
    const fields = row.split('\t')
    const earlier = rows.get(from)
    const at = table.columns.map((column) => relation.columns.indexOf(column))
    if (from !== keyOf(row)) rows.set(from, null)
    rows.set(
      keyOf(row),
      at.map((position, i) => (position < 0 || fields[position] === '\\U' ? (earlier?.[i] ?? '\\N') : fields[position]!)),
    )
  }
  return rows
}

/** Rows of a table of a point by their keys. */
async function rowsByKey(store: Store, table: TableManifest, key: string[], wanted: Set<string>): Promise<Map<string, string[]>> {
  const at = key.map((column) => table.columns.indexOf(column))
  const single = at.length === 1 && table.key?.length === 1 && table.key[0] === key[0]
  const numbers = single ? [...wanted].filter((value) => /^-?\d+$/.test(value)).map(BigInt) : []
  const chunks = table.chunks.filter(
    ({ keys: range }) => !range || !single || numbers.some((number) => number >= BigInt(range[0]) && number <= BigInt(range[1])),
  )
  const found = new Map<string, string[]>()
  for await (const bytes of store.readAll(namesOfChunks(chunks))) {
    for (const line of linesOf([bytes])) {
      const text = rawFields(line, at).join('\t')
      if (wanted.has(text)) found.set(text, line.split('\t'))
    }
  }
  return found
}

const KEYS_AT_ONCE = 2000

/** The same rows as the source holds them now. */
async function rowsNow(
  client: pg.Client,
  table: Pick<TableManifest, 'schema' | 'name' | 'columns' | 'structure'>,
  key: string[],
  wanted: Set<string>,
): Promise<Map<string, string[]>> {
  const found = new Map<string, string[]>()
  const at = key.map((column) => table.columns.indexOf(column))
  const type = key.map((column) => table.structure.columns.find(({ name }) => name === column)!.type)
  const all = [...wanted].map((value) => fieldsOf(value))
  for (let from = 0; from < all.length; from += KEYS_AT_ONCE) {
    const values = all
      .slice(from, from + KEYS_AT_ONCE)
      .map((fields) => `(${fields.map((field, i) => `${quoteLiteral(field ?? '')}::${type[i]}`).join(', ')})`)
    const statement = `copy (select ${table.columns.map(quoteIdentifier).join(', ')} from only ${qualified(table.schema, table.name)}
      where (${key.map(quoteIdentifier).join(', ')}) in (${values.join(', ')})) to stdout`
    await copyOut(client, statement, {}, async ({ bytes }) => {
      for (const line of linesOf([bytes])) found.set(rawFields(line, at).join('\t'), line.split('\t'))
    })
  }
  return found
}

/** What touched the rows after the transaction, as far as the log goes. */
async function laterChanges(
  engine: EngineContext,
  vesselId: string,
  ref: TransactionRef,
  oid: number,
  wanted: Set<string>,
): Promise<Map<string, LaterChange[]>> {
  const later = new Map<string, LaterChange[]>()
  const end = positionOf(ref.end)!
  for await (const segment of segmentsBackwards(engine, vesselId, { member: ref.member })) {
    if (positionOf(segment.log.to)! <= end) break
    for (const chunk of [...segment.log.chunks].reverse()) {
      if (positionOf(chunk.to)! <= end) continue
      const some = await changesOf(segment, chunk, {
        relation: (relation) => relation.oid === oid,
        transaction: ({ position }) => positionOf(position)! >= end,
      })
      for (const { relation, old, row, op, transaction } of some.reverse()) {
        const keys = new Set([old, row].flatMap((line) => (line === null ? [] : [rawFields(line, relation.key).join('\t')])))
        for (const key of keys)
          if (wanted.has(key)) later.set(key, [{ xid: transaction.xid, at: transaction.at, op }, ...(later.get(key) ?? [])])
      }
    }
  }
  return later
}

/** Decisions for rows that something has touched since: by table and key. */
export type UndoChoices = Record<string, Record<string, UndoChoice>>

/** The rows of a table that are undone. */
export const chosen = (table: UndoTable, choices: UndoChoices) =>
  table.rows.filter((row) => isUndone(row, choices[table.path]?.[rowKey(row.key)] ?? choices[table.path]?.['*']))
