import { randomUUID } from 'node:crypto'
import type pg from 'pg'
import type { DatabaseManifest, DatabaseProperties, OtherThing, PointRecord, TableManifest } from '../../core/content/manifest'
import { holdsNames } from '../../core/restore/groups'
import type { StructureEntry } from '../../core/restore/structure'
import { largeObjectsPath, pathOf } from '../../core/things/thing'
import type { Vessel } from '../catalog/vessels'
import { captureTable } from '../sources/postgres/capture'
import type { PostgresAccess } from '../sources/postgres/connect'
import { describeSequences, describeTables } from '../sources/postgres/describe'
import { captureLargeObjects } from '../sources/postgres/large-objects'
import { serverOf } from '../sources/postgres/probe'
import type { Store } from '../store/store'
import { ContentWriter } from '../store/writer'
import type { RunContext } from './context'
import { commitKept } from './kept-point'
import { writeJson } from '../store/json'

/** What is about to be overwritten. */
export interface Overwritten {
  tables?: { schema: string; name: string }[]
  others?: OtherThing[]
  largeObjects?: number[]
  /** Owner, rights, comment and settings of the database itself. */
  properties?: DatabaseProperties
  /** Other things may have been made again by now, so that rows which name them show their old numbers. */
  remade?: boolean
}

const BY_NUMBER = 'Values of it that name what was made again before it was kept are kept by its old number.'

interface KeptFrom {
  access: PostgresAccess & { id: string }
  database: string
  /** The database of the backup, whose chunks are probably similar. */
  before: DatabaseManifest
  days: number
}

/**
 * Keeps what is about to be overwritten as a recovery point of its own, read within the transaction that holds
 * the locks, so that not one row is lost between. Returns the point's id.
 */
export async function keepOverwritten(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  client: pg.Client,
  from: KeptFrom,
  overwritten: Overwritten,
  entries: StructureEntry[],
): Promise<string> {
  const writer = new ContentWriter(store, run.id, (tx) => run.confirm(tx))
  try {
    return await keepAll(run, vessel, store, writer, client, from, overwritten, entries)
  } catch (error) {
    await writer.discard()
    throw error
  }
}

async function keepAll(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  writer: ContentWriter,
  client: pg.Client,
  { access, database, before: earlier, days }: KeptFrom,
  overwritten: Overwritten,
  entries: StructureEntry[],
): Promise<string> {
  const tables: TableManifest[] = []
  for (const table of overwritten.tables?.length ? await describeTables(client, overwritten.tables) : []) {
    const path = pathOf(access.name, database, table.schema, table.name)
    tables.push(await captureTable(client, table, path, writer, { earlier, signal: run.signal, moved: () => undefined }))
  }
  const only = overwritten.largeObjects ?? []
  const path = largeObjectsPath(access.name, database)
  const largeObjects =
    only.length > 0 ? await captureLargeObjects(client, path, writer, { only, signal: run.signal, moved: () => undefined }) : null
  const now = run.engine.clock.now()
  const kept: DatabaseManifest = {
    ...earlier,
    name: database,
    at: now.toISOString(),
    entries,
    tables,
    largeObjects,
    sequences: await describeSequences(client),
    others: overwritten.others ?? [],
    missing: overwritten.remade ? tables.filter(holdsNames).map((table) => ({ path: table.path, reason: BY_NUMBER, note: true })) : [],
  }
  if (overwritten.properties) kept.properties = overwritten.properties
  else delete kept.properties
  const manifest = { format: 1 as const, kind: 'full' as const, member: access.name, server: await serverOf(client), databases: [kept] }
  const names = await writeJson(writer, manifest)
  const artifact = randomUUID()
  const all = [...tables, ...(largeObjects ? [largeObjects] : [])]
  const entry: PointRecord['members'][number] = {
    member: pathOf(access.name, database),
    artifact,
    kind: 'full',
    position: earlier.position,
    manifest: names,
    rows: all.reduce((sum, held) => sum + held.rows, 0),
    bytes: all.reduce((sum, held) => sum + held.bytes, 0),
  }
  const member = { artifact, sourceId: access.id, at: now, stored: writer.stored }
  return commitKept(run, vessel, store, writer, { consistency: 'each sound', at: now, days, members: [entry] }, [member])
}
