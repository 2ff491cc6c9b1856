import type { EngineContext } from '../context'
import { errorRecord, VesselError } from '../../core/errors'
import { accessOf, clusterAccessOf } from '../catalog/sources'
import { ClusterClient } from '../sources/kubernetes/client'
import { readLeft } from './clusters/fetch'
import { removeFromClusters } from './clusters/left'
import type { RestingWorkload } from './clusters/resting'
import { openStore } from '../catalog/stores'
import type { VesselDefinition } from '../../core/plan/definition'
import { releaseOverdue } from '../holds/watchdog'
import type { FolderBackend } from '../store/folder'
import { withClient } from '../sources/postgres/connect'
import { dropDatabase } from '../sources/postgres/make-database'
import { discardRun } from '../store/writer'
import { backup } from './backup'
import { RunContext } from './context'
import { restore } from './restore'
import { undo } from './undo'
import { rehearseStill } from './still'
import { verify } from './verify'

/** Does one run from its beginning to its end; whatever happens is on its record. */
export async function perform(engine: EngineContext, runId: string): Promise<void> {
  const row = await engine.db
    .selectFrom('run')
    .innerJoin('vessel', 'vessel.id', 'run.vessel_id')
    .innerJoin('vessel_version', (join) =>
      join.onRef('vessel_version.vessel_id', '=', 'run.vessel_id').onRef('vessel_version.version', '=', 'run.vessel_version'),
    )
    .select([
      'run.id',
      'run.kind',
      'run.name',
      'run.comment',
      'run.params',
      'run.vessel_version',
      'vessel.id as vessel_id',
      'vessel.slug',
      'vessel.name as vessel_name',
      'vessel.paused',
      'vessel_version.definition',
    ])
    .where('run.id', '=', runId)
    .executeTakeFirst()
  if (!row) return
  const run = new RunContext(engine, runId, row.vessel_id)
  if (!(await run.begin())) return
  const vessel = {
    id: row.vessel_id,
    slug: row.slug,
    name: row.vessel_name,
    paused: row.paused,
    version: row.vessel_version,
    definition: row.definition,
  }
  try {
    run.signal.throwIfAborted()
    if (row.kind === 'backup')
      await backup(run, vessel, { name: row.name, comment: row.comment }, (row.params.what as 'full' | undefined) ?? 'full')
    else if (row.kind === 'verify') await verify(run, vessel)
    else if (row.kind === 'still') await rehearseStill(run, row.params as never)
    else if (row.kind === 'fetch') await readLeft(run, vessel, row.params as never)
    else if (row.kind === 'undo') await undo(run, vessel, row.params as never)
    else await restore(run, vessel, row.params as never, row.kind === 'rehearsal')
  } catch (thrown) {
    const error = run.signal.aborted ? run.signal.reason : thrown
    if (!(error instanceof VesselError)) console.error(`run ${runId}:`, error)
    await run.say('error', errorRecord(error).what).catch(() => undefined)
    await run.end(error instanceof VesselError && error.code === 'cancelled' ? 'cancelled' : 'failed', { error })
  }
}

// A worker writes its heartbeat every second; after this long without one it is taken for dead.
const SILENT_MS = 15_000

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
    .select(['run.id', 'run.kind', 'run.vessel_id', 'run.outcome', 'vessel_version.definition'])
    .where('run.state', '=', 'running')
    .where('run.heartbeat_at', '<', before)
    .execute()
  for (const orphan of orphans) {
    await endOrphan(engine, orphan)
    straysOf.add(orphan.definition.store)
  }
  if (orphans.length > 0) await releaseOverdue(engine)
  if (straysOf.size > 0) await removeStrays(engine, mine ? 0 : FRESH_MS)
}

async function endOrphan(
  engine: EngineContext,
  orphan: { id: string; kind: string; vessel_id: string; outcome: Record<string, unknown> | null; definition: VesselDefinition },
): Promise<void> {
  const cleanup = await openStore(engine, { name: orphan.definition.store })
    .then((store) => discardRun(store, orphan.id))
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
