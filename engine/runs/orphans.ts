import { sql } from 'kysely'
import { errorRecord, VesselError } from '../../core/errors'
import { LOG, type VesselDefinition } from '../../core/plan/definition'
import { openStore } from '../catalog/stores'
import type { RunKind } from '../catalog/types'
import type { EngineContext } from '../context'
import { releaseOverdue } from '../holds/watchdog'
import type { FolderBackend } from '../store/folder'
import type { Store } from '../store/store'
import { refuseAhead } from '../store/strangers'
import { discardRun } from '../store/writer'
import { RunContext, SILENT_MS } from './context'
import { pointOf, undoAll, undoLeft } from './undone'
import { storeOf } from './store-of'

/** Younger content may be that of somebody at work: a follower fills a pack for as long as its segment is open. */
const LEFT_MS = 2 * LOG.seconds.max * 1000
const SWEEP_EVERY_MS = 3_600_000

/** When it was last looked for what is left over. */
const swept = new WeakMap<EngineContext, number>()

/** Runs that seemed to be without a worker when it was looked last, by what was heard of them then. */
const suspects = new WeakMap<EngineContext, Map<string, string | null>>()

/**
 * Ends runs whose worker died: what they had stored and not committed is removed, what they had made is undone, and
 * the run fails with the reason. `mine` tells that no other worker exists, so every running run is orphaned; otherwise
 * a run is only taken when nothing was heard of it between two looks, so that a catalog that was away for a while
 * does not end the runs of workers that live.
 */
export async function tidyUp(engine: EngineContext, mine = false): Promise<void> {
  const silent = await engine.db
    .selectFrom('run')
    .innerJoin('vessel_version', (join) =>
      join.onRef('vessel_version.vessel_id', '=', 'run.vessel_id').onRef('vessel_version.version', '=', 'run.vessel_version'),
    )
    .select([
      'run.id',
      'run.kind',
      'run.vessel_id',
      'run.params',
      'vessel_version.definition',
      sql<string | null>`heartbeat_at::text`.as('heard'),
    ])
    .where('run.state', '=', 'running')
    .where(sql<boolean>`heartbeat_at <= now() - make_interval(secs => ${mine ? 0 : SILENT_MS / 1000})`)
    .execute()
  const before = suspects.get(engine)
  suspects.set(engine, new Map(silent.map(({ id, heard }) => [id, heard])))
  const orphans = silent.filter(({ id, heard }) => mine || before?.get(id) === heard)
  for (const orphan of orphans)
    await endOrphan(engine, orphan).catch((error: Error) => console.warn(`run ${orphan.id} could not be ended: ${error.message}`))
  await undoLeft(engine)
  if (orphans.length > 0) await releaseOverdue(engine)
  if (!mine && Date.now() - (swept.get(engine) ?? 0) < SWEEP_EVERY_MS) return
  swept.set(engine, Date.now())
  await removeLeft(engine, mine ? 0 : LEFT_MS)
}

interface Orphan {
  id: string
  kind: RunKind
  vessel_id: string
  /** When it was heard last, as the catalog writes it. */
  heard: string | null
  params: Record<string, unknown>
  definition: VesselDefinition
}

/** Where it was writing: what is read into the store of a point need not go where its vessel writes now. */
async function writesTo(engine: EngineContext, orphan: Orphan): Promise<string> {
  if (orphan.kind !== 'fetch') return storeOf(orphan)
  const row = await engine.db
    .selectFrom('point')
    .innerJoin('store', 'store.id', 'point.store_id')
    .select('store.name')
    .where('point.id', '=', String(orphan.params.point))
    .executeTakeFirst()
  return row?.name ?? storeOf(orphan)
}

/** Does nothing when another worker was faster, or the run was heard again. */
async function endOrphan(engine: EngineContext, orphan: Orphan): Promise<void> {
  const store = await writesTo(engine, orphan)
  const run = new RunContext(engine, orphan.id, orphan.vessel_id)
  if (!(await run.takeOver(orphan.heard))) return
  try {
    await endTaken(engine, run, orphan, store)
  } finally {
    // Where the catalog went away meanwhile, the run is ended by another look.
    run.letGo()
  }
}

async function endTaken(engine: EngineContext, run: RunContext, orphan: Orphan, store: string): Promise<void> {
  const cleanup = await openStore(engine, { name: store })
    .then((opened) => removeUnlessAhead(opened, () => discardRun(opened, orphan.id)))
    .then(
      () => null,
      (error: unknown) => errorRecord(error).what,
    )
  const undone = await undoAll(engine, orphan.id)
  const made = orphan.kind === 'backup' ? await pointOf(engine, orphan.id) : undefined
  const error = new VesselError('worker_died', {
    what: 'The worker that did this run ended in the middle of it.',
    touched: made ? 'The point was made all the same.' : touchedBy(orphan, undone, cleanup),
    next: made ? 'Nothing has to be done.' : 'Start it again.',
  })
  await run.say(made ? 'warning' : 'error', error.message)
  if (made) await run.end('warned', { outcome: { point: made.id } })
  else await run.end('failed', { error })
}

function touchedBy({ kind }: Orphan, undone: string[], cleanup: string | null): string {
  if (undone.length > 0) return undone.join(' ')
  return kind === 'restore'
    ? 'What is listed as done is back; what was at hand was rolled back by the server, so its old data stays.'
    : `What it had stored is removed${cleanup ? ` as far as possible (${cleanup})` : ''}. Earlier points are untouched.`
}

/**
 * Looks in every store for what was announced and never finished: what a worker leaves that is killed, or a follower,
 * which belongs to no run.
 *
 * @param left how long nothing was heard of it, in milliseconds
 */
async function removeLeft(engine: EngineContext, left: number): Promise<void> {
  for (const { name } of await engine.db.selectFrom('store').select('name').execute()) {
    await openStore(engine, { name })
      .then((store) => removeUnlessAhead(store, () => forgetLeft(engine, store, left)))
      .catch((error: Error) => console.warn(`store ${name}: what was left there could not be removed (${errorRecord(error).what})`))
  }
}

async function removeUnlessAhead(store: Store, remove: () => Promise<void>): Promise<void> {
  await refuseAhead(store)
  await remove()
}

async function forgetLeft(engine: EngineContext, store: Store, left: number): Promise<void> {
  const { rows } = await sql<{ id: string }>`
    select distinct id from (
      select run_id as id, created_at as at from pack where store_id = ${store.id} and not committed
      union all select run_id, at from announced_file where store_id = ${store.id}
      union all select owner, heard_at from content_writer where store_id = ${store.id}) unfinished
    where at <= now() - make_interval(secs => ${left / 1000})
      and not exists (select from run where run.id = unfinished.id and run.state in ('waiting', 'running'))`.execute(engine.db)
  for (const { id } of rows) await discardRun(store, id)
  await (store.backend as FolderBackend).removePending(left)
}
