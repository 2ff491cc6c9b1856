import { namesOfChunks } from '../../core/content/chunk-list'
import { bytesOf } from '../../core/content/text'
import { copyText } from '../../core/content/copy-text'
import type { DatabaseManifest, TableManifest } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { ddlOf, entriesOf } from '../../core/look/ddl'
import { readyFilter, type Condition } from '../../core/look/filter'
import { csvHeader, type Format } from '../../core/look/formats'
import { familyOf } from '../../core/restore/groups'
import { qualified, quoteIdentifier, quoteLiteral, thingKey } from '../../core/restore/sql'
import { isWithin, namesOf } from '../../core/things/thing'
import type { EngineContext } from '../context'
import { noRows, openPoint, rowsOf, tableIn, type OpenPoint } from '../points/open'
import type { Store } from '../store/store'
import { candidateChunks } from './rows'

export interface ExportQuery {
  path: string
  format: Format
  filter: Condition[]
  /** Only rows with these keys; null for all. */
  keys: string[][] | null
}

/** What is written, piece by piece, with the rows that a piece holds. */
export interface Piece {
  bytes: Uint8Array
  rows: number
}

export interface Export {
  /** A name for the file, without its ending. */
  name: string
  rows: number
  pieces: () => AsyncGenerator<Piece>
}

const text = (value: string): Piece => ({ bytes: bytesOf(value), rows: 0 })

/**
 * A table of a point, or chosen rows of it, in an open format, chunk by chunk. A partitioned table comes with the
 * rows of its partitions.
 */
export async function exportTable(engine: EngineContext, pointId: string, query: ExportQuery): Promise<Export> {
  const point = await openPoint(engine, pointId, noRows)
  const { table, database } = tableIn(point, query.path)
  const family = familyOf(database, [table])
  const leaves = family.filter(({ structure }) => structure.kind === 'table')
  await point.ready(rowsOf(...leaves.map(({ path }) => path)))
  const wanted = query.keys && wantedKeys(table, query.keys)
  const jobs = leaves.map((leaf) => ({
    leaf,
    filter: readyFilter(query.filter, leaf.columns, leaf.structure.columns),
    keys: wanted && { at: table.key!.map((column) => leaf.columns.indexOf(column)), wanted },
    // A partition may hold its columns in another order.
    order: leaf.columns.join('\t') === table.columns.join('\t') ? null : table.columns.map((column) => leaf.columns.indexOf(column)),
  }))
  const { columns, schema, name } = table
  const some = query.keys !== null || query.filter.length > 0
  return {
    name: `${schema}.${name}`,
    rows: query.keys?.length ?? leaves.reduce((sum, { rows }) => sum + rows, 0),
    pieces: async function* () {
      if (query.format === 'sql' && !some) return yield* wholeSql(point.store, database, family)
      if (query.format === 'csv') yield text(csvHeader(columns))
      const format = query.format === 'sql' ? 'insert' : query.format
      for (const { leaf, ...job } of jobs) {
        const chunks = candidateChunks(leaf, job.filter).map((chunk) => leaf.chunks.at(chunk)!.name)
        const task = { ...job, format, target: { schema, name }, columns, types: table.structure.columns } as const
        yield* ahead(chunks, (chunk) => point.store.with(chunk, (open) => point.store.pool.convert({ ...open, ...task })))
      }
    },
  }
}

function wantedKeys(table: TableManifest, keys: string[][]): Set<string> {
  if (table.key) return new Set(keys.map((key) => key.map(copyText).join('\t')))
  throw new VesselError('no_key', {
    what: `${table.schema}.${table.name} has no key by which rows could be picked.`,
    touched: 'Nothing was written.',
    next: 'Take the whole table out, or filter it.',
  })
}

/** As many at once as there are threads, in order. */
async function* ahead<T>(items: string[], work: (item: string) => Promise<T>): AsyncGenerator<T> {
  const running: Promise<T>[] = []
  try {
    for (const item of items) {
      running.push(work(item))
      running.at(-1)!.catch(() => undefined)
      if (running.length > 3) yield await running.shift()!
    }
    while (running.length > 0) yield await running.shift()!
  } finally {
    await Promise.allSettled(running)
  }
}

/** Structure and rows as psql reads them: the rows go through as they are stored. */
async function* wholeSql(store: Store, database: DatabaseManifest, family: TableManifest[]): AsyncGenerator<Piece> {
  const { before, after } = ddlOf(entriesOf(database, ...family.map(({ path }) => path)))
  yield text(`${sessionFor(database.encoding)}${before}\n\n`)
  for (const table of family) yield* copyOf(store, table)
  yield text(`${positionsOf(database, family)}${after}\n`)
}

/** Statements that set sequences to where they stood: those that columns of the tables own, and those of a schema. */
function positionsOf(database: DatabaseManifest, tables: TableManifest[], path?: string): string {
  const names = new Set(tables.map((table) => thingKey(table.schema, table.name)))
  const members = new Set(
    database.others
      .filter((other) => other.kind === 'sequence' && path && isWithin(other.path, path))
      .map(({ path: thing }) => namesOf(thing).slice(-2).join('\u0001')),
  )
  const due = database.sequences.filter(({ schema, name, ownedBy }) =>
    ownedBy ? names.has(thingKey(...ownedBy)) : members.has(`${schema}\u0001${name}`),
  )
  const set = due.map(
    ({ schema, name, last, called }) => `SELECT pg_catalog.setval(${quoteLiteral(qualified(schema, name))}, ${last}, ${called});\n`,
  )
  return set.length > 0 ? `${set.join('')}\n` : ''
}

/** Rows of a database of no encoding are the bytes that they are. */
const sessionFor = (encoding: string) => `SET statement_timeout = 0;
SET client_encoding = '${encoding === 'SQL_ASCII' ? encoding : 'UTF8'}';
SET standard_conforming_strings = on;
SET check_function_bodies = false;
SET xmloption = content;
SET datestyle = 'ISO, YMD';
SET intervalstyle = 'postgres';
SET timezone = 'UTC';
SELECT pg_catalog.set_config('search_path', '', false);

`

async function* copyOf(store: Store, table: TableManifest): AsyncGenerator<Piece> {
  if (table.structure.kind !== 'table') return
  const columns = table.columns.length > 0 ? ` (${table.columns.map(quoteIdentifier).join(', ')})` : ''
  yield text(`COPY ${qualified(table.schema, table.name)}${columns} FROM stdin;\n`)
  let i = 0
  for await (const bytes of store.readAll(namesOfChunks(table.chunks))) yield { bytes, rows: table.chunks.at(i++)!.rows }
  yield text('\\.\n\n')
}

/** A whole schema as one SQL script: all structures, all rows, then what comes after them. */
export function exportSchema(point: OpenPoint, path: string): Export {
  const { database, tables, others } = schemaIn(point, path)
  const { before, after } = ddlOf(entriesOf(database, ...[...others, ...tables].map((thing) => thing.path)))
  return {
    name: path.split('/').slice(1).join('.'),
    rows: tables.reduce((sum, { rows }) => sum + rows, 0),
    pieces: async function* () {
      yield text(`${sessionFor(database.encoding)}${before}\n\n`)
      for (const table of tables) yield* copyOf(point.store, table)
      yield text(`${positionsOf(database, tables, path)}${after}\n`)
    },
  }
}

/** The tables of a schema or database in a point, with rows of their own. */
export function schemaIn(point: OpenPoint, path: string) {
  for (const { manifest } of point.members) {
    for (const database of manifest.databases) {
      const tables = database.tables.filter((table) => isWithin(table.path, path))
      const others = database.others.filter((other) => isWithin(other.path, path))
      if (tables.length + others.length > 0) return { database, tables, others }
    }
  }
  throw new VesselError('not_in_point', {
    what: `${path} is not in this point.`,
    touched: 'Nothing was written.',
    next: 'Choose something of its tree.',
    status: 404,
  })
}
