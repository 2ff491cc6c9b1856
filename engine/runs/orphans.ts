import { errorRecord, VesselError } from '../../core/errors'
import type { VesselDefinition } from '../../core/plan/definition'
import { accessOf, clusterAccessOf } from '../catalog/sources'
import { openStore } from '../catalog/stores'
import type { RunKind } from '../catalog/types'
import type { EngineContext } from '../context'
import { releaseOverdue } from '../holds/watchdog'
import { ClusterClient } from '../sources/kubernetes/client'
import { withClient } from '../sources/postgres/connect'
import { dropDatabase } from '../sources/postgres/make-database'
import type { FolderBackend } from '../store/folder'
import { discardRun } from '../store/writer'
import { removeFromClusters } from './clusters/left'
import type { RestingWorkload } from './clusters/resting'
import { RunContext, SILENT_MS } from './context'

// Younger files may be those of a follower in another process, which belongs to no run.
const FRESH_MS = 120_000

// Set when a worker died and files of it may lie in a store, until they could be looked for.
let straysOf = new Set<string>()

/**
 * Ends runs whose worker died: what they had stored and not committed is removed, and the run fails with the
 * reason. `mine` tells that no other worker exists, so every running run is orphaned.
 */
export async function tidyUp(engine: EngineContext, mine = false): Promise<void> {
  const before = new Date(Date.now() - (mine ? 0 : SILENT_MS))
  const orphans = await engine.db
    .selectFrom('run')
    .innerJoin('vessel_version', (join) =>
      join.onRef('vessel_version.vessel_id', '=', 'run.vessel_id').onRef('vessel_version.version', '=', 'run.vessel_version'),
    )
    .select(['run.id', 'run.kind', 'run.vessel_id', 'run.outcome', 'run.params', 'vessel_version.definition'])
    .where('run.state', '=', 'running')
    .where('run.heartbeat_at', '<', before)
    .execute()
  for (const orphan of orphans) {
    const store = await storeOf(engine, orphan)
    await endOrphan(engine, orphan, store)
    straysOf.add(store)
  }
  if (orphans.length > 0) await releaseOverdue(engine)
  if (straysOf.size > 0) await removeStrays(engine, mine ? 0 : FRESH_MS)
}

interface Orphan {
  id: string
  kind: RunKind
  vessel_id: string
  outcome: Record<string, unknown> | null
  params: Record<string, unknown>
  definition: VesselDefinition
}

/** Where it was writing: what is read into the store of a point need not go where its vessel writes now. */
async function storeOf(engine: EngineContext, { kind, params, definition }: Orphan): Promise<string> {
  if (kind !== 'fetch') return definition.store
  const row = await engine.db
    .selectFrom('point')
    .innerJoin('store', 'store.id', 'point.store_id')
    .select('store.name')
    .where('point.id', '=', String(params.point))
    .executeTakeFirst()
  return row?.name ?? definition.store
}

async function endOrphan(engine: EngineContext, orphan: Orphan, store: string): Promise<void> {
  const cleanup = await openStore(engine, { name: store })
    .then((opened) => discardRun(opened, orphan.id))
    .then(
      () => null,
      (error: unknown) => errorRecord(error).what,
    )
  await removeFromClusters(engine, orphan.id)
  const restore = orphan.kind === 'restore'
  const resting = (orphan.outcome?.resting as RestingWorkload[] | undefined) ?? []
  const woken = resting.length > 0 ? await wakeAll(engine, resting) : null
  const made = orphan.outcome?.made as { source: string; database: string } | undefined
  const dropped = made ? await dropMade(engine, made) : null
  const error = new VesselError('worker_died', {
    what: 'The worker that did this run ended in the middle of it.',
    touched: restore
      ? (woken ??
        dropped ??
        'Tables that are listed as done are back; the one at hand was rolled back by the server, so its old data stays.')
      : `What it had stored is removed${cleanup ? ` as far as possible (${cleanup})` : ''}. Earlier points are untouched.`,
    next: 'Start it again.',
  })
  const run = new RunContext(engine, orphan.id, orphan.vessel_id)
  await run.say('error', error.message)
  await run.end('failed', { error })
}

/** Workloads that were put to rest while their volumes were written run again. */
async function wakeAll(engine: EngineContext, resting: RestingWorkload[]): Promise<string> {
  const said: string[] = []
  for (const { source, path, label, start } of resting) {
    try {
      const change = { method: 'PATCH', contentType: 'application/merge-patch+json', body: { spec: start } } as const
      await ClusterClient.with(await clusterAccessOf(engine, source), (client) => client.ask(path, change))
      said.push(`${label} of ${source}, which was at rest, is started again.`)
    } catch (error) {
      said.push(`${label} of ${source} is at rest and could not be started again: ${errorRecord(error).what}`)
    }
  }
  return `Its volumes may hold half of what should come back. ${said.join(' ')}`
}

/** A database that a restore had made for itself does not stay half-filled. */
async function dropMade(engine: EngineContext, { source, database }: { source: string; database: string }): Promise<string> {
  try {
    const access = await accessOf(engine, source)
    await withClient(access, undefined, (client) => dropDatabase(client, database))
    return `The database ${database}, which it was making, is dropped again.`
  } catch (error) {
    return `The database ${database}, which it was making, is half-filled and could not be dropped: ${errorRecord(error).what}`
  }
}

/** Looks for files that nothing knows, once no run is at work that may be writing some. */
async function removeStrays(engine: EngineContext, fresh: number): Promise<void> {
  const active = await engine.db.selectFrom('run').select('id').where('state', '=', 'running').limit(1).executeTakeFirst()
  if (active) return
  const names = straysOf
  straysOf = new Set()
  for (const name of names) {
    await openStore(engine, { name })
      .then((store) => removeStrayFiles(engine, store, fresh))
      .catch((error: Error) => console.warn(`store ${name}: files of a run that died could not be looked for (${error.message})`))
  }
}

/** Files in a store that nothing knows: unfinished ones, packs without index, points without a row. */
async function removeStrayFiles(engine: EngineContext, store: Awaited<ReturnType<typeof openStore>>, fresh: number): Promise<void> {
  const backend = store.backend as FolderBackend
  await backend.removePending(fresh)
  const packs = new Set((await engine.db.selectFrom('pack').select('id').where('store_id', '=', store.id).execute()).map((pack) => pack.id))
  for (const { path } of await store.backend.list('packs')) {
    if (!packs.has(path.slice('packs/'.length, -'.pack'.length)) && !(await backend.isFresh(path, fresh))) await backend.remove(path)
  }
  const segments = await engine.db.selectFrom('artifact').select('id').where('store_id', '=', store.id).where('kind', '=', 'log').execute()
  const known = new Set(segments.map(({ id }) => id))
  for (const { path } of await backend.list('segments')) {
    if (!known.has(path.slice('segments/'.length, -'.segment'.length)) && !(await backend.isFresh(path, fresh))) await backend.remove(path)
  }
  const points = new Set(
    (await engine.db.selectFrom('point').select('id').where('store_id', '=', store.id).execute()).map((point) => point.id),
  )
  for (const { path } of await store.backend.list('points')) {
    const id = path.slice('points/'.length, -'.point'.length)
    if (!points.has(id)) await store.removePoint(id)
  }
}
