import type pg from 'pg'
import { compareRows, fieldsOf, linesOf, type RowComparison } from '../../core/compare/rows'
import { compareStructures, type StructureLine } from '../../core/compare/structure'
import type { TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { namesOf } from '../../core/things/thing'
import { bytesInWords } from '../../core/time/words'
import { accessOf } from '../catalog/sources'
import type { EngineContext } from '../context'
import { openPoint } from '../runs/restore-plan'
import { copyStatement } from '../sources/postgres/capture'
import { withClient, type PostgresAccess } from '../sources/postgres/connect'
import { copyOut } from '../sources/postgres/copy-out'
import { describeTables, type DescribedTable } from '../sources/postgres/describe'
import { databasesOf } from '../sources/postgres/probe'
import type { Store } from '../store/store'

/** A table in a point beside the same table at its source now. */
export interface TableComparison {
  path: string
  then: { rows: number; bytes: number }
  /** Null when the table is not there now. */
  now: { rows: number } | null
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

// Differing chunks are held in memory, and the table of now is read as a whole.
const DIFFERING_BYTES = 96 * 1024 * 1024
const LARGEST_BYTES = 4 * 1024 ** 3
const SAMPLE_ROWS = 60

/**
 * Compares a table of a point with what its source holds now. The rows of now are cut into chunks as a backup
 * cuts them, so chunks that are the same are known by their names and neither read from the store nor compared.
 * @param limit how many differing rows are returned at most; the counts are of all
 */
export async function compareTable(engine: EngineContext, pointId: string, path: string, limit: number): Promise<TableComparison> {
  const point = await openPoint(engine, pointId)
  const [source, database] = namesOf(path)
  const table = point.members
    .flatMap(({ manifest }) => manifest.databases.flatMap(({ tables }) => tables))
    .find((candidate) => candidate.path === path)
  if (!table) {
    throw new VesselError('not_in_point', {
      what: `${path} is not in this point.`,
      touched: 'Nothing was changed.',
      next: 'Choose something of its tree.',
      status: 404,
    })
  }
  const access = await accessOf(engine, source!)
  const databases = await withClient(access, undefined, databasesOf)
  if (!databases.some(({ name }) => name === database)) return thenOnly(point.store, table, limit)
  return withClient(access, database, async (client) => {
    await client.query('begin isolation level repeatable read read only')
    const [now] = await describeTables(client, [{ schema: table.schema, name: table.name }])
    return now ? new Comparison(point.store, table, now, client, access).compare(limit) : thenOnly(point.store, table, limit)
  })
}

async function thenOnly(store: Store, table: TableManifest, limit: number): Promise<TableComparison> {
  const lines = await firstLines(store, table, limit)
  const comparison = compareRows(lines, [], keyAt(table, table.columns), limit)
  return {
    ...base(table, null, table.columns),
    structure: compareStructures(table.structure, null),
    rows: { ...comparison, gone: table.rows },
    tooMuch: null,
    sample: [],
  }
}

function base(table: TableManifest, now: DescribedTable | null, columns: string[]) {
  const key = table.key?.every((column) => columns.includes(column)) ? table.key : null
  return { path: table.path, then: { rows: table.rows, bytes: table.bytes }, now: now && { rows: now.rows }, columns, key }
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

class Comparison {
  /** How often each chunk of then is still to be found. */
  private readonly awaited = new Map<string, number>()
  private readonly differing: Uint8Array[] = []
  private differingBytes = 0
  private same = 0
  private nowRows = 0

  constructor(
    private readonly store: Store,
    private readonly table: TableManifest,
    private readonly now: DescribedTable,
    private readonly client: pg.Client,
    private readonly access: PostgresAccess,
  ) {
    for (const { name } of table.chunks) this.awaited.set(name, (this.awaited.get(name) ?? 0) + 1)
  }

  async compare(limit: number): Promise<TableComparison> {
    const { table, now } = this
    const columns = table.columns.filter((column) => now.columns.includes(column))
    const result = { ...base(table, now, columns), structure: compareStructures(table.structure, now.structure) }
    const none = (tooMuch: string): TableComparison => ({ ...result, rows: null, tooMuch, sample: [] })
    if (table.structure.kind !== 'table' || now.structure.kind !== 'table')
      return none('It has no rows of its own; its partitions have them.')
    if (!now.readable) return none(`The role ${this.access.settings.user} may not read it now.`)
    if (now.bytes > LARGEST_BYTES)
      return none(`It is ${bytesInWords(now.bytes)} now; rows are compared up to ${bytesInWords(LARGEST_BYTES)}.`)
    const fits = await this.readNow(columns)
    if (!fits) return none(`More than ${bytesInWords(DIFFERING_BYTES)} of it differ, which is too much to compare row by row here.`)
    const rows = compareRows(await this.thenLines(columns), linesOf(this.differing), keyAt(table, columns), limit)
    rows.same += this.same
    const sample = rows.rows.length > 0 ? [] : (await firstLines(this.store, table, SAMPLE_ROWS)).map(fieldsOf)
    return { ...result, now: { rows: this.nowRows }, rows, tooMuch: null, sample }
  }

  private async readNow(columns: string[]): Promise<boolean> {
    const { table, now, store } = this
    const giveUp = new AbortController()
    try {
      await copyOut(
        this.client,
        copyStatement({ schema: now.schema, name: now.name, columns }),
        { signal: giveUp.signal },
        async (chunk) => {
          this.nowRows += chunk.rows
          const named = await store.pool.name(chunk.bytes, store.keys.name)
          const name = Buffer.from(named.name).toString('hex')
          const left = columns.length === table.columns.length ? (this.awaited.get(name) ?? 0) : 0
          if (left > 0) {
            this.awaited.set(name, left - 1)
            this.same += chunk.rows
            return
          }
          this.differing.push(named.plain)
          this.differingBytes += named.plain.length
          if (this.differingBytes > DIFFERING_BYTES) giveUp.abort()
        },
      )
      return true
    } catch (error) {
      if (giveUp.signal.aborted) return false
      throw error
    }
  }

  private async thenLines(columns: string[]): Promise<Iterable<string>> {
    const chunks: Uint8Array[] = []
    for (const { name } of this.table.chunks) {
      const left = this.awaited.get(name) ?? 0
      if (left === 0) continue
      this.awaited.set(name, left - 1)
      chunks.push(await this.store.read(name))
    }
    const lines = linesOf(chunks)
    if (columns.length === this.table.columns.length) return lines
    const at = columns.map((column) => this.table.columns.indexOf(column))
    return projected(lines, at)
  }
}

function* projected(lines: Iterable<string>, at: number[]): Generator<string> {
  for (const line of lines) {
    const fields = line.split('\t')
    yield at.map((i) => fields[i]).join('\t')
  }
}
