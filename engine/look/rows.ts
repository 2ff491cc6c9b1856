import { fieldsOf } from '../../core/compare/rows'
import type { TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { keyRangeOf, readyFilter, type Condition, type Ready } from '../../core/look/filter'
import type { EngineContext } from '../context'
import { openPoint, rowsOf, tableIn } from '../points/open'
import type { Store } from '../store/store'
import { chunkRows } from './chunk-rows'
import { KeyOrder, type RowAt } from './key-order'
import { canSort, sortedRows } from './sorted-keys'

export type Order = 'stored' | 'key' | 'key-descending'

export interface RowQuery {
  path: string
  order: Order
  /** Position of the first row that is wanted; not with a filter. */
  offset: number
  limit: number
  filter: Condition[]
  /** Where the filtered rows of the page before ended. */
  after: RowAt | null
}

export interface LookedRow {
  at: RowAt
  /** Values as text; null for null. Long ones are cut. */
  fields: (string | null)[]
  /** Full length in characters of values that were cut, by position. */
  cut: Record<number, number>
}

export interface RowPage {
  /** With the type beneath a domain. */
  columns: { name: string; type: string; base?: string }[]
  key: string[] | null
  /** Whether rows can be shown by key. */
  sortable: boolean
  total: number
  rows: LookedRow[]
  /** With a filter: where to go on; null when all rows were looked at. */
  next: RowAt | null
  /** With a filter: how many rows were looked at so far. */
  looked: number
}

const SHOWN = 240
/** A filtered page is answered after this time at the latest, with what was found till then. */
const PATIENCE_MS = 150
const AT_ONCE = 4

/** A page of the rows of a table in a point. Reads the chunks that hold them, and no others. */
export async function rowPage(engine: EngineContext, pointId: string, query: RowQuery): Promise<RowPage> {
  const point = await openPoint(engine, pointId, rowsOf(query.path))
  const { table } = tableIn(point, query.path)
  const filter = readyFilter(query.filter, table.columns, table.structure.columns)
  const base = {
    columns: table.columns.map((name) => {
      const { type = 'text', base } = table.structure.columns.find((column) => column.name === name) ?? {}
      return base ? { name, type, base } : { name, type }
    }),
    key: table.key,
    sortable: KeyOrder.fits(table) || canSort(table),
    total: table.rows,
  }
  if (filter.length > 0) return { ...base, ...(await filtered(point.store, table, filter, query)) }
  const at = query.order === 'stored' ? storedOrder(table, query.offset, query.limit) : await keyOrder(point.store, table, query)
  return { ...base, rows: await linesAt(point.store, table, at), next: null, looked: table.rows }
}

function storedOrder(table: TableManifest, offset: number, limit: number): RowAt[] {
  const rows: RowAt[] = []
  let before = 0
  for (const [chunk, { rows: count }] of table.chunks.entries()) {
    for (let row = Math.max(0, offset - before); row < count && rows.length < limit; row++) rows.push({ chunk, row })
    before += count
    if (rows.length >= limit) break
  }
  return rows
}

async function keyOrder(store: Store, table: TableManifest, { offset, limit, order }: RowQuery): Promise<RowAt[]> {
  if (!KeyOrder.fits(table) && canSort(table)) {
    const sorted = await sortedRows(store, table)
    return order === 'key'
      ? sorted.slice(offset, offset + limit)
      : sorted.slice(Math.max(0, table.rows - offset - limit), table.rows - offset).reverse()
  }
  if (!KeyOrder.fits(table)) {
    throw new VesselError('no_order', {
      what: `The rows of ${table.schema}.${table.name} can’t be shown by key: it has none, or one that is no single integer in a table that is too large to be sorted here.`,
      touched: 'Nothing was changed.',
      next: 'Look at them in the order in which they are stored.',
    })
  }
  const keys = new KeyOrder(store, table, table.columns.indexOf(table.key![0]!))
  if (order === 'key') return keys.page(offset, limit)
  const end = table.rows - offset
  const from = Math.max(0, end - limit)
  return (await keys.page(from, end - from)).reverse()
}

async function linesAt(store: Store, table: TableManifest, at: RowAt[]): Promise<LookedRow[]> {
  const chunks = new Map(
    await Promise.all(
      [...new Set(at.map(({ chunk }) => chunk))].map(
        async (chunk) => [chunk, await chunkRows(store, table.chunks.at(chunk)!.name)] as const,
      ),
    ),
  )
  return at.map((where) => lookedRow(where, chunks.get(where.chunk)!.line(where.row), table))
}

function lookedRow(at: RowAt, line: string, table: TableManifest): LookedRow {
  const cut: Record<number, number> = {}
  const fields = (table.columns.length === 0 ? [] : fieldsOf(line)).map((value, i) => {
    if (value === null || value.length <= SHOWN) return value
    cut[i] = value.length
    return value.slice(0, SHOWN)
  })
  return { at, fields, cut }
}

/** Goes through the chunks that a filter may find something in, some at once, until the page is full or time is over. */
async function filtered(
  store: Store,
  table: TableManifest,
  filter: Ready[],
  query: RowQuery,
): Promise<Pick<RowPage, 'rows' | 'next' | 'looked'>> {
  const candidates = candidateChunks(table, filter)
  const start = query.after ?? { chunk: 0, row: 0 }
  const queue = candidates.filter((chunk) => chunk >= start.chunk)
  const until = Date.now() + PATIENCE_MS
  const rows: LookedRow[] = []
  while (queue.length > 0 && (Date.now() < until || rows.length === 0)) {
    const batch = queue.splice(0, AT_ONCE)
    const scanned = await Promise.all(
      batch.map((chunk) => scan(store, table, chunk, filter, chunk === start.chunk ? start.row : 0, query.limit)),
    )
    for (const [i, { at, lines }] of scanned.entries()) {
      for (const [k, row] of at.entries()) {
        if (rows.length >= query.limit) return { rows, next: { chunk: batch[i]!, row }, looked: rowsBefore(table, batch[i]!) + row }
        rows.push(lookedRow({ chunk: batch[i]!, row }, lines[k]!, table))
      }
    }
    if (Date.now() >= until) break
  }
  const next = queue[0]
  return {
    rows,
    next: next === undefined ? null : { chunk: next, row: 0 },
    looked: next === undefined ? table.rows : rowsBefore(table, next),
  }
}

const rowsBefore = (table: TableManifest, chunk: number) => table.chunks.slice(0, chunk).reduce((sum, { rows }) => sum + rows, 0)

export function scan(store: Store, table: TableManifest, chunk: number, filter: Ready[], from: number, limit: number) {
  return store.with(table.chunks.at(chunk)!.name, (task) => store.pool.scan({ ...task, filter, from, limit: limit + 1 }))
}

/** Chunks whose range of keys a filter does not rule out. */
export function candidateChunks(table: TableManifest, filter: Ready[]): number[] {
  const all = table.chunks.map((_, chunk) => chunk)
  if (!KeyOrder.fits(table)) return all
  const { min, max } = keyRangeOf(filter, table.columns.indexOf(table.key![0]!))
  return all.filter((chunk) => {
    const [least, most] = table.chunks.at(chunk)!.keys!.map(BigInt)
    return (min === null || most! >= min) && (max === null || least! <= max)
  })
}

export interface WholeRow {
  columns: { name: string; type: string }[]
  /** Whole values, up to a length at which nobody reads them any more. */
  fields: (string | null)[]
  cut: Record<number, number>
}

const WHOLE = 512 * 1024

/** One row with its whole values, by where it lies. */
export async function wholeRow(engine: EngineContext, pointId: string, path: string, at: RowAt): Promise<WholeRow> {
  const point = await openPoint(engine, pointId, rowsOf(path))
  const { table } = tableIn(point, path)
  const chunk = table.chunks.at(at.chunk)
  if (!chunk || at.row >= chunk.rows || at.row < 0) {
    throw new VesselError('row_missing', {
      what: 'There is no such row in this table.',
      touched: 'Nothing was changed.',
      next: 'Choose one of its rows.',
      status: 404,
    })
  }
  const cut: Record<number, number> = {}
  const line = (await chunkRows(point.store, chunk.name)).line(at.row)
  const fields = fieldsOf(line).map((value, i) => {
    if (value === null || value.length <= WHOLE) return value
    cut[i] = value.length
    return value.slice(0, WHOLE)
  })
  const types = new Map(table.structure.columns.map(({ name, type }) => [name, type]))
  return { columns: table.columns.map((name) => ({ name, type: types.get(name) ?? 'text' })), fields, cut }
}
