import { Readable } from 'node:stream'
import * as v from 'valibot'
import yazl from 'yazl'
import { sql } from 'kysely'
import type { Engine } from '../../../../engine/engine'
import { schemaIn, exportSchema, exportTable, type Export } from '../../../../engine/look/export'
import { notify } from '../../../../engine/notify'
import { slugFor } from '../../../../core/things/name'
import { isWithin } from '../../../../core/things/thing'
import { noRows, openPoint, type OpenPoint } from '../../../../engine/points/open'
import { FORMATS, type Format } from '../../../../core/look/formats'

const Query = v.object({
  path: v.string(),
  format: v.picklist(FORMATS),
  filter: v.optional(Conditions, '[]'),
  keys: v.optional(Keys),
  /** By which the interface knows the progress that is told meanwhile. */
  token: v.optional(v.pipe(v.string(), v.maxLength(60))),
})

const TYPES: Record<Format | 'zip', string> = {
  sql: 'application/sql',
  csv: 'text/csv; charset=utf-8',
  jsonl: 'application/jsonl',
  zip: 'application/zip',
}
const TELL_MS = 400

/** A table, chosen rows or a schema of a point as a file, streamed as it is read. */
export default route(async (engine, event) => {
  const { path, format, filter, keys, token } = queryOf(event, Query)
  const id = pointOf(event)
  const point = await openPoint(engine, id, noRows)
  const when = await stampOf(engine, point)
  const isTable = point.members.some(({ manifest }) => manifest.databases.some(({ tables }) => tables.some((table) => table.path === path)))
  if (isTable) {
    const taken = await exportTable(engine, id, { path, format, filter, keys: keys ?? null })
    return sendFile(event, `${taken.name}.${when}.${format}`, TYPES[format], Readable.from(told(engine, taken, token)))
  }
  if (format === 'sql') {
    await point.ready((table) => isWithin(table, path))
    const taken = exportSchema(point, path)
    return sendFile(event, `${taken.name}.${when}.sql`, TYPES.sql, Readable.from(told(engine, taken, token)))
  }
  const tables = schemaIn(point, path).tables.filter(({ structure }) => structure.kind === 'table')
  const parts = await Promise.all(tables.map((table) => exportTable(engine, id, { path: table.path, format, filter: [], keys: null })))
  return sendFile(event, `${path.split('/').slice(1).join('.')}.${when}.${format}.zip`, TYPES.zip, zipOf(engine, parts, format, token))
})

/** Of which moment a file is, and where its point stands in its plan: `20261124T041000Z.nightly-3-of-7`. */
async function stampOf(engine: Engine, { id, at }: OpenPoint): Promise<string> {
  const row = await engine.db
    .selectFrom('point')
    .select('plan')
    .where(sql<string>`id::text`, '=', id)
    .executeTakeFirst()
  const moment = at.toISOString().replace(/[-:]|\.\d+/g, '')
  if (!row?.plan) return moment
  const { name, place, of } = row.plan
  return `${moment}.${slugFor(name, new Set())}${of > 1 ? `-${place}-of-${of}` : ''}`
}

interface Telling {
  rows: number
  of: number
  /** Files that are not written yet. */
  files: number
}

/** The bytes of what is taken out, with the progress told now and then. Files of one archive share their telling. */
async function* told(
  engine: Engine,
  taken: Export,
  token: string | undefined,
  telling: Telling = { rows: 0, of: taken.rows, files: 1 },
): AsyncGenerator<Uint8Array> {
  let last = 0
  const tell = async (over: boolean) => {
    const { rows, of } = telling
    if (token) await notify(engine.db, { about: 'export', id: token, rows, of, over })
  }
  for await (const { bytes, rows } of taken.pieces()) {
    telling.rows += rows
    if (Date.now() - last > TELL_MS) {
      last = Date.now()
      await tell(false)
    }
    if (bytes.length > 0) yield bytes
  }
  telling.files--
  if (telling.files === 0) await tell(true)
}

function zipOf(engine: Engine, parts: Export[], format: Format, token: string | undefined): Readable {
  const zip = new yazl.ZipFile()
  const telling: Telling = { rows: 0, of: parts.reduce((sum, { rows }) => sum + rows, 0), files: parts.length }
  const output = zip.outputStream as Readable
  for (const part of parts) {
    zip.addReadStreamLazy(`${part.name}.${format}`, (ready) => {
      const stream = Readable.from(told(engine, part, token, telling))
      stream.on('error', (error) => output.destroy(error))
      ready(null, stream)
    })
  }
  zip.end()
  return output
}
