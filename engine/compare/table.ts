import type pg from 'pg'
import { RowMatcher } from '../../core/compare/matcher'
import { compareRows, fieldsOf, linesOf, type RowComparison } from '../../core/compare/rows'
import { compareStructures, type StructureLine } from '../../core/compare/structure'
import type { TableManifest } from '../../core/content/manifest'
import { namesOf } from '../../core/things/thing'
import { bytesInWords } from '../../core/time/words'
import { accessOf } from '../catalog/sources'
import type { EngineContext } from '../context'
import { openPoint, rowsOf, tableIn, type OpenPoint } from '../points/open'
import { copyStatement } from '../sources/postgres/capture'
import { translate, withClient, type PostgresAccess } from '../sources/postgres/connect'
import { copyOut } from '../sources/postgres/copy-out'
import { describeTables, type DescribedTable } from '../sources/postgres/describe'
import { databasesOf } from '../sources/postgres/probe'
import type { Store } from '../store/store'

/** A table in a point beside the same table at its source now. */
export interface TableComparison {
  path: string
  before: { rows: number; bytes: number }
  /** Null when the table is not there now, or not in the other point. */
  now: { rows: number } | null
  /** The other point, where the table is not compared with its source. */
  against: { id: string; at: Date } | null
  /** Bytes of rows that were read from the store to compare. */
  read: number
  structure: StructureLine[]
  /** The columns that are compared: those that are in both. */
  columns: string[]
  /** Columns that tell rows apart; without them rows are only gone or new. */
  key: string[] | null
  rows: RowComparison | null
  /** Why rows are not compared, in words. */
  tooMuch: string | null
  /** A few rows that are the same, so that there is something to look at. */
  sample: (string | null)[][]
}

// Rows without an equal on the other side are held in memory, and the table of now is read as a whole.
const DIFFERING = 96 * 1024 * 1024
const LARGEST_BYTES = 4 * 1024 ** 3
const SAMPLE_ROWS = 60
/** Differing rows of now that may wait before the rows of then are read that are probably their equals. */
const WAITING = 8 * 1024 * 1024

/**
 * Compares a table of a point with what its source holds now. The rows of now are cut into chunks as a backup
 * cuts them, so chunks that are the same are known by their names and neither read from the store nor compared.
 * @param limit how many differing rows are returned at most; the counts are of all
 */
export async function compareTable(engine: EngineContext, pointId: string, path: string, limit: number): Promise<TableComparison> {
  const point = await openPoint(engine, pointId, rowsOf(path))
  const [source, database] = namesOf(path)
  const { table } = tableIn(point, path)
  const access = await accessOf(engine, source!)
  const databases = await withClient(access, undefined, databasesOf)
  if (!databases.some(({ name }) => name === database)) return thenOnly(point.store, table, limit)
  return withClient(access, database, async (client) => {
    await client.query('begin isolation level repeatable read read only')
    const [now] = await describeTables(client, [{ schema: table.schema, name: table.name }])
    return now ? compareWithSource(point.store, table, now, client, access, limit) : thenOnly(point.store, table, limit)
  }).catch((error: unknown) => {
    throw translate(error, access, database, 'Nothing was changed; what was compared so far is dropped.')
  })
}

/** Compares a table in two points. Chunks that both have are neither read nor compared. */
export async function comparePoints(
  engine: EngineContext,
  thenId: string,
  nowId: string,
  path: string,
  limit: number,
): Promise<TableComparison> {
  const [before, now] = await Promise.all([openPoint(engine, thenId, rowsOf(path)), openPoint(engine, nowId, rowsOf(path))])
  const { table } = tableIn(before, path)
  const against = { id: now.id, at: now.at }
  const other = tableOf(now, path)
  if (!other) return { ...(await thenOnly(before.store, table, limit)), against }
  const columns = table.columns.filter((column) => other.columns.includes(column))
  const comparison = new Comparison(before.store, table, columns)
  const same = columns.length === table.columns.length && columns.length === other.columns.length && before.store.id === now.store.id
  const common = same ? comparison.skipCommon(other.chunks.map(({ name }) => name)) : new Set<number>()
  const fresh = other.chunks.filter((_, i) => !common.has(i))
  comparison.same += other.chunks.reduce((sum, { rows }, i) => sum + (common.has(i) ? rows : 0), 0)
  const at = columns.map((column) => other.columns.indexOf(column))
  let fits = true
  for await (const bytes of now.store.readAll(fresh.map(({ name }) => name))) {
    comparison.read += bytes.length
    fits = await comparison.addNow(projected(linesOf([bytes]), at, other.columns.length))
    if (!fits) break
  }
  const structure = compareStructures(table.structure, other.structure)
  const result = await comparison.finish(fits, structure, other.rows, limit)
  return { ...result, against }
}

const tableOf = (point: OpenPoint, path: string) =>
  point.members.flatMap(({ manifest }) => manifest.databases.flatMap(({ tables }) => tables)).find((table) => table.path === path)

async function thenOnly(store: Store, table: TableManifest, limit: number): Promise<TableComparison> {
  const lines = await firstLines(store, table, limit)
  const comparison = compareRows(lines, [], keyAt(table, table.columns), limit)
  return {
    ...base(table, null, table.columns),
    structure: compareStructures(table.structure, null),
    rows: { ...comparison, gone: table.rows },
  }
}

function base(table: TableManifest, now: { rows: number } | null, columns: string[]): Omit<TableComparison, 'structure'> {
  const key = table.key?.every((column) => columns.includes(column)) ? table.key : null
  return {
    path: table.path,
    before: { rows: table.rows, bytes: table.bytes },
    now: now && { rows: now.rows },
    columns,
    key,
    against: null,
    read: 0,
    rows: null,
    tooMuch: null,
    sample: [],
  }
}

const keyAt = (table: TableManifest, columns: string[]) =>
  table.key?.every((column) => columns.includes(column)) ? table.key.map((column) => columns.indexOf(column)) : null

async function firstLines(store: Store, table: TableManifest, count: number): Promise<string[]> {
  const lines: string[] = []
  for (const { name } of table.chunks) {
    for (const line of linesOf([await store.read(name)])) {
      lines.push(line)
      if (lines.length >= count) return lines
    }
  }
  return lines
}

async function compareWithSource(
  store: Store,
  table: TableManifest,
  now: DescribedTable,
  client: pg.Client,
  access: PostgresAccess,
  limit: number,
): Promise<TableComparison> {
  const columns = table.columns.filter((column) => now.columns.includes(column))
  const structure = compareStructures(table.structure, now.structure)
  const none = (tooMuch: string): TableComparison => ({ ...base(table, now, columns), structure, tooMuch })
  if (table.structure.kind !== 'table' || now.structure.kind !== 'table')
    return none('It has no rows of its own; its partitions have them.')
  if (!now.readable) return none(`The role ${access.settings.user} may not read it now.`)
  if (now.bytes > LARGEST_BYTES)
    return none(`It is ${bytesInWords(now.bytes)} now; rows are compared up to ${bytesInWords(LARGEST_BYTES)}.`)
  const comparison = new Comparison(store, table, columns)
  const giveUp = new AbortController()
  let rows = 0
  const statement = copyStatement({ schema: now.schema, name: now.name, columns })
  const reading = copyOut(client, statement, { signal: giveUp.signal }, async (chunk) => {
    rows += chunk.rows
    const { name, plain } = await store.pool.name(chunk.bytes, store.keys.name)
    if (columns.length === table.columns.length && comparison.skip(Buffer.from(name).toString('hex'), chunk.rows)) return
    if (!(await comparison.addNow(linesOf([plain])))) giveUp.abort()
  })
  const fits = await reading.then(
    () => true,
    (error: unknown) => {
      if (giveUp.signal.aborted) return false
      throw error
    },
  )
  return comparison.finish(fits, structure, fits ? rows : now.rows, limit)
}

/** The rows of then, of which chunks are read as they are needed, against rows of now as they come. */
class Comparison {
  private readonly matcher = new RowMatcher()
  /** Positions of the chunks of then by name, and which of them are dealt with. */
  private readonly at = new Map<string, number[]>()
  private readonly done = new Set<number>()
  private next = 0
  private waiting = 0
  same = 0
  read = 0

  constructor(
    private readonly store: Store,
    private readonly table: TableManifest,
    private readonly columns: string[],
  ) {
    for (const [i, { name }] of table.chunks.entries()) this.at.set(name, [...(this.at.get(name) ?? []), i])
  }

  /** Passes over a chunk that both sides have; false when then has none of that name left. */
  skip(name: string, rows: number): boolean {
    const position = this.at.get(name)?.find((i) => !this.done.has(i))
    if (position === undefined) return false
    this.done.add(position)
    this.same += rows
    return true
  }

  /** The same for all chunks of another point at once; returns which of them are common. */
  skipCommon(names: string[]): Set<number> {
    const common = new Set<number>()
    for (const [i, name] of names.entries()) if (this.skip(name, 0)) common.add(i)
    return common
  }

  /** Takes rows of now; false when more differ than can be held. */
  async addNow(lines: Iterable<string>): Promise<boolean> {
    const before = this.matcher.size
    for (const line of lines) this.matcher.add('now', line)
    this.waiting += this.matcher.size - before
    while (this.waiting > WAITING && (await this.readNext()));
    return this.matcher.size < DIFFERING
  }

  /** Reads the next chunk of then that no chunk of now was equal to so far. */
  private async readNext(): Promise<boolean> {
    while (this.done.has(this.next)) this.next++
    const chunk = this.table.chunks.at(this.next)
    if (!chunk) return false
    this.done.add(this.next)
    const before = this.matcher.size
    this.addThen(await this.store.read(chunk.name))
    this.waiting = Math.max(0, this.waiting + Math.min(0, this.matcher.size - before) - chunk.bytes / 2)
    return true
  }

  private addThen(bytes: Uint8Array): void {
    this.read += bytes.length
    const at = this.columns.map((column) => this.table.columns.indexOf(column))
    for (const line of projected(linesOf([bytes]), at, this.table.columns.length)) this.matcher.add('before', line)
  }

  async finish(fits: boolean, structure: StructureLine[], nowRows: number, limit: number): Promise<TableComparison> {
    const { table, columns } = this
    const result = { ...base(table, { rows: nowRows }, columns), structure }
    const rest = table.chunks.filter((_, i) => !this.done.has(i)).map(({ name }) => name)
    for await (const bytes of fits ? this.store.readAll(rest) : []) {
      this.addThen(bytes)
      if (this.matcher.size >= DIFFERING) fits = false
      if (!fits) break
    }
    if (!fits)
      return {
        ...result,
        read: this.read,
        tooMuch: `More than ${bytesInWords(DIFFERING)} of it differ, which is too much to compare row by row here.`,
      }
    const rows = compareRows(this.matcher.rest('before'), this.matcher.rest('now'), keyAt(table, columns), limit)
    rows.same += this.same + this.matcher.same
    const sample = rows.rows.length > 0 ? [] : (await firstLines(this.store, table, SAMPLE_ROWS)).map(fieldsOf)
    return { ...result, read: this.read, rows, sample }
  }
}

function* projected(lines: Iterable<string>, at: number[], width: number): Generator<string> {
  if (at.length === width && at.every((position, i) => position === i)) return yield* lines
  for (const line of lines) {
    const fields = line.split('\t')
    yield at.map((i) => fields[i]).join('\t')
  }
}
