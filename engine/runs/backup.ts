import { randomUUID } from 'node:crypto'
import type { DatabaseManifest, Manifest, PointRecord, TableManifest } from '../../core/content/manifest'
import { errorRecord, VesselError } from '../../core/errors'
import { select, takesFrom } from '../../core/selection/rules'
import { namesOf } from '../../core/things/thing'

import { accessOf } from '../catalog/sources'
import { openStore } from '../catalog/stores'
import type { Vessel } from '../catalog/vessels'
import { captureError, captureTable, DatabaseCapture, type Earlier } from '../sources/postgres/capture'
import { withClient, type PostgresAccess } from '../sources/postgres/connect'
import type { DescribedTable } from '../sources/postgres/describe'
import { databasesOf, serverOf } from '../sources/postgres/probe'
import { ContentWriter } from '../store/writer'
import type { Store } from '../store/store'
import type { RunContext } from './context'
import { commitPoint, newestManifest, writeManifest, type FinishedMember } from './manifests'

/** A full backup of a vessel: every source it takes from, and one recovery point of them all. */
export async function backup(run: RunContext, vessel: Vessel, details: { name: string | null; comment: string | null }): Promise<void> {
  const store = await openStore(run.engine, { name: vessel.definition.store })
  const writer = new ContentWriter(store, run.id)
  const pointId = randomUUID()
  try {
    const members = await captureMembers(run, vessel, store, writer)
    const missing = members.flatMap((member) => member.manifest.databases.flatMap((database) => database.missing))
    if (members.every((member) => member.manifest.databases.every(isEmpty))) throw nothingTaken(missing)
    const last = await run.plan({ kind: 'manifest', member: '', title: 'Manifest' })
    await run.step(last, async () => {
      const record = pointRecord(run, vessel, pointId, members, missing.length === 0, details)
      await commitPoint(run.engine, store, writer, record, members, { keptFor: null, missing })
    })
    await run.end(run.warnings > 0 ? 'warned' : 'done', { outcome: { point: pointId, missing: missing.length, stored: writer.stored } })
  } catch (error) {
    await writer.discard()
    await store.removePoint(pointId)
    throw error
  }
}

function nothingTaken(missing: { path: string; reason: string }[]): VesselError {
  const first = missing[0]
  return new VesselError('nothing_taken', {
    what: first ? `Nothing could be captured. ${first.path}: ${first.reason}` : 'The rules of this vessel take nothing that exists now.',
    touched: 'No point was made, and nothing was stored. Earlier points are untouched.',
    next: first ? 'Mend this at the source, then run it again.' : 'Look at What in its definition.',
  })
}

async function captureMembers(run: RunContext, vessel: Vessel, store: Store, writer: ContentWriter): Promise<FinishedMember[]> {
  const sources = await run.engine.db.selectFrom('source').select('name').orderBy('name').execute()
  const names = sources.map(({ name }) => name).filter((name) => takesFrom(vessel.definition.rules, name))
  const members: FinishedMember[] = []
  for (const name of names) {
    const access = await accessOf(run.engine, name)
    const before = writer.stored
    const earlier = await newestManifest(run.engine, store, vessel.id, name).catch(async (error: unknown) => {
      // Differences only save space; a damaged earlier point must not keep a new one from being made.
      await run.say('warning', `The last point could not be used for differences: ${errorRecord(error).what}`)
      return undefined
    })
    const server = await withClient(access, undefined, serverOf)
    const databases: DatabaseManifest[] = []
    for (const database of await databasesToRead(access, vessel)) {
      const old = earlier?.databases.find((candidate) => candidate.name === database)
      databases.push(await captureDatabase(run, vessel, access, database, writer, old))
    }
    const manifest: Manifest = { format: 1, kind: 'full', member: name, server, databases }
    members.push({
      artifact: randomUUID(),
      sourceId: access.id,
      manifest,
      names: await writeManifest(writer, manifest),
      stored: writer.stored - before,
    })
  }
  return members
}

/** Databases in which some rule may take something. */
async function databasesToRead(access: PostgresAccess, vessel: Vessel): Promise<string[]> {
  const databases = await withClient(access, undefined, databasesOf)
  return databases.map(({ name }) => name).filter((name) => takesFrom(vessel.definition.rules, access.name, name))
}

async function captureDatabase(
  run: RunContext,
  vessel: Vessel,
  access: PostgresAccess,
  database: string,
  writer: ContentWriter,
  earlier: Earlier,
): Promise<DatabaseManifest> {
  const member = `${access.name} / ${database}`
  const snapshot = await run.plan({ kind: 'snapshot', member, title: 'Snapshot' })
  const structure = await run.plan({ kind: 'structure', member, title: 'Structure' })
  let capture: DatabaseCapture | undefined
  try {
    const { tables, taken } = await run.step(snapshot, async () => {
      capture = await DatabaseCapture.open(access, database, run.signal)
      const taken = new Set(select(vessel.definition.rules, capture.things).taken.map((thing) => thing.path))
      await sayWhatIsGone(run, capture, taken, earlier, vessel)
      const tables = await capture.secure(taken)
      for (const { path, reason } of capture.missing) await run.say('warning', `${path} is not covered. ${reason}`)
      return { tables, taken }
    })
    const steps = await planTables(run, member, capture!, tables, earlier)
    const entries = await run.step(structure, async (count) => {
      const entries = await capture!.structure()
      count('structures', entries.length)
      return entries
    })
    const manifests = await readTables(run, vessel, capture!, steps, writer, earlier)
    const manifest = await capture!.finish(entries, manifests)
    return { ...manifest, others: manifest.others.filter((other) => taken.has(other.path) || !isSelectable(other.path)) }
  } catch (error) {
    throw captureError(error, access, database)
  } finally {
    await capture?.close()
  }
}

// Schemas and extensions are no things that rules decide over; they belong to the database.
const isSelectable = (path: string) => namesOf(path).length > 3

const isEmpty = ({ tables, others }: DatabaseManifest) => tables.length === 0 && !others.some(({ path }) => isSelectable(path))

async function sayWhatIsGone(
  run: RunContext,
  capture: DatabaseCapture,
  taken: Set<string>,
  earlier: Earlier,
  vessel: Vessel,
): Promise<void> {
  const before = earlier?.tables.filter((table) => !capture.tables.some((now) => capture.pathOf(now) === table.path)) ?? []
  const wanted = select(
    vessel.definition.rules,
    before.map(({ path }) => ({ path, kind: 'table' as const, labels: {}, facts: {} })),
  ).taken
  for (const { path } of wanted) await run.say('warning', `${path} is gone since the last point, which still holds it.`)
  if (taken.size === 0) await run.say('warning', 'The rules take nothing here now.')
}

interface TableStep {
  table: DescribedTable
  path: string
  ordinal: number
}

/** A step for each table with rows of its own, the heaviest first, so that no reader is left with it alone at the end. */
async function planTables(
  run: RunContext,
  member: string,
  capture: DatabaseCapture,
  tables: DescribedTable[],
  earlier: Earlier,
): Promise<TableStep[]> {
  const before = new Map(earlier?.tables.map((table) => [table.path, table]))
  const ordered = [...tables].sort((a, b) => b.bytes - a.bytes)
  const steps: TableStep[] = []
  for (const table of ordered) {
    const path = capture.pathOf(table)
    const title = `${table.schema}.${table.name}`
    const ordinal = table.structure.kind === 'table' ? await run.plan({ kind: 'table', member, title }) : -1
    steps.push({ table, path, ordinal })
    // What was counted last time is closer than the server's estimate.
    const { rows, bytes } = before.get(path) ?? table
    run.set('rows expected', run.get('rows expected') + rows)
    run.set('bytes expected', run.get('bytes expected') + bytes)
  }
  return steps
}

async function readTables(
  run: RunContext,
  vessel: Vessel,
  capture: DatabaseCapture,
  steps: TableStep[],
  writer: ContentWriter,
  earlier: Earlier,
): Promise<TableManifest[]> {
  const manifests: TableManifest[] = []
  const queue = [...steps]
  const failures = new AbortController()
  const signal = AbortSignal.any([run.signal, failures.signal])
  const readers = Math.max(1, Math.min(vessel.definition.readers, queue.length))
  const outcomes = await Promise.allSettled(
    Array.from({ length: readers }, async () => {
      const client = await capture.reader()
      try {
        for (let step = queue.shift(); step; step = queue.shift()) {
          manifests.push(await readTable(run, client, step, writer, earlier, signal))
        }
      } catch (error) {
        // One reader that fails stops the others: there is no point without this table.
        failures.abort(error)
        throw error
      } finally {
        await client.end().catch(() => undefined)
      }
    }),
  )
  run.signal.throwIfAborted()
  const failed = outcomes.find((outcome) => outcome.status === 'rejected')
  if (failed) throw failures.signal.reason ?? failed.reason
  return manifests.sort((a, b) => (a.path < b.path ? -1 : 1))
}

async function readTable(
  run: RunContext,
  client: Awaited<ReturnType<DatabaseCapture['reader']>>,
  { table, path, ordinal }: TableStep,
  writer: ContentWriter,
  earlier: Earlier,
  signal: AbortSignal,
): Promise<TableManifest> {
  const read = (moved: (rows: number, bytes: number, stored: number) => void) =>
    captureTable(client, table, path, writer, { earlier, signal, moved })
  if (ordinal < 0) return read(() => undefined)
  return run.step(ordinal, (count) =>
    read((rows, bytes, stored) => {
      count('rows', rows)
      count('bytes', bytes)
      count('stored', stored)
    }),
  )
}

function pointRecord(
  run: RunContext,
  vessel: Vessel,
  id: string,
  members: FinishedMember[],
  complete: boolean,
  details: { name: string | null; comment: string | null },
): PointRecord {
  const sum = (manifest: Manifest, field: 'rows' | 'bytes') =>
    manifest.databases.reduce((all, database) => all + database.tables.reduce((part, table) => part + table[field], 0), 0)
  return {
    format: 1,
    id,
    vessel: { id: vessel.id, name: vessel.name, version: vessel.version, definition: vessel.definition },
    run: run.id,
    at: run.engine.clock.now().toISOString(),
    ...details,
    consistency: 'each sound',
    complete,
    members: members.map(({ artifact, manifest, names }) => ({
      member: manifest.member,
      artifact,
      kind: 'full',
      position: manifest.databases.at(-1)?.position ?? '',
      rows: sum(manifest, 'rows'),
      bytes: sum(manifest, 'bytes'),
      manifest: names,
    })),
  }
}
