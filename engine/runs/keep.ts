import { randomUUID } from 'node:crypto'
import type pg from 'pg'
import type { DatabaseManifest, PointRecord } from '../../core/content/manifest'
import type { StructureEntry } from '../../core/restore/structure'
import { pathOf } from '../../core/things/thing'
import type { Vessel } from '../catalog/vessels'
import { captureTable } from '../sources/postgres/capture'
import type { PostgresAccess } from '../sources/postgres/connect'
import { describeSequences, describeTables } from '../sources/postgres/describe'
import { serverOf } from '../sources/postgres/probe'
import type { Store } from '../store/store'
import { ContentWriter } from '../store/writer'
import type { RunContext } from './context'
import { commitPoint, writeManifest } from './manifests'
import type { GroupMember } from './restore-group'

/**
 * Keeps tables that are about to be overwritten as a recovery point of its own, read within the transaction
 * that holds their locks, so that not one row is lost between. Returns the point's id.
 */
export async function keepOverwritten(
  run: RunContext,
  vessel: Vessel,
  store: Store,
  access: PostgresAccess & { id: string },
  client: pg.Client,
  database: DatabaseManifest,
  replaced: GroupMember[],
  entries: StructureEntry[],
): Promise<string> {
  const writer = new ContentWriter(store, run.id)
  const described = await describeTables(
    client,
    replaced.map(({ operation }) => operation.target),
  )
  const tables = []
  for (const table of described) {
    const path = pathOf(access.name, database.name, table.schema, table.name)
    tables.push(await captureTable(client, table, path, writer, { earlier: database, signal: run.signal, moved: () => undefined }))
  }
  const server = await serverOf(client)
  const now = run.engine.clock.now()
  const kept: DatabaseManifest = {
    ...database,
    at: now.toISOString(),
    entries,
    tables,
    sequences: await describeSequences(client),
    others: [],
    missing: [],
  }
  const manifest = { format: 1 as const, kind: 'full' as const, member: access.name, server, databases: [kept] }
  const names = await writeManifest(writer, manifest)
  const [artifact, id] = [randomUUID(), randomUUID()]
  const record: PointRecord = {
    format: 1,
    id,
    vessel: { id: vessel.id, name: vessel.name, version: vessel.version, definition: vessel.definition },
    run: run.id,
    at: now.toISOString(),
    name: 'Kept before it was overwritten',
    comment: null,
    consistency: 'each sound',
    complete: false,
    members: [
      {
        member: access.name,
        artifact,
        kind: 'full',
        position: database.position,
        manifest: names,
        rows: tables.reduce((sum, table) => sum + table.rows, 0),
        bytes: tables.reduce((sum, table) => sum + table.bytes, 0),
      },
    ],
  }
  const member = { artifact, sourceId: access.id, manifest, names, stored: writer.stored }
  await commitPoint(run.engine, store, writer, record, [member], { keptFor: run.id, missing: [] })
  return id
}
