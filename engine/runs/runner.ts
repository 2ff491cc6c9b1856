import { sql } from 'kysely'
import { isAway, patiently } from '../catalog/connect'
import { openStore } from '../catalog/stores'
import type { EngineContext } from '../context'
import { errorRecord, VesselError } from '../../core/errors'
import { notify } from '../notify'
import { whyFull } from './at-once'
import { RunContext } from './context'
import { RUNS } from './kinds'
import { storeOf } from './store-of'

/** Reasons of a store that another machine may not have. */
const AWAY = new Set(['store_file_missing', 'store_not_writable', 'store_not_a_folder'])
/** How long a run waits for a worker that can reach its store, before it is told that none can. */
const REACHED_WITHIN_MS = 30_000

/**
 * Does one run from its beginning to its end; whatever happens is on its record. What can't begin yet is to be tried
 * again a little later, by this worker or another.
 *
 * @param stop tells that the worker has to go: the run stops as one that is cancelled does, and has failed
 */
export async function perform(engine: EngineContext, runId: string, stop?: AbortSignal): Promise<'over' | 'later'> {
  const row = await patiently(() => recordedRun(engine, runId))
  if (!row) return 'over'
  const isNew = engine.clock.now().getTime() - row.created_at.getTime() < REACHED_WITHIN_MS
  const unreached = isNew && row.kind !== 'hold' ? await whyUnreached(engine, storeOf(row)) : null
  if (unreached) return later(engine, runId, unreached)
  const run = new RunContext(engine, runId, row.vessel_id)
  try {
    return await carryOut(engine, run, row, stop)
  } finally {
    run.letGo()
  }
}

type RecordedRun = NonNullable<Awaited<ReturnType<typeof recordedRun>>>

const recordedRun = (engine: EngineContext, runId: string) =>
  engine.db
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
      'run.created_at',
      'vessel.id as vessel_id',
      'vessel.slug',
      'vessel.name as vessel_name',
      'vessel.pause',
      'vessel.gone',
      'vessel_version.definition',
    ])
    .where('run.id', '=', runId)
    .executeTakeFirst()

async function carryOut(engine: EngineContext, run: RunContext, row: RecordedRun, stop?: AbortSignal): Promise<'over' | 'later'> {
  const begun = await patiently(() => run.begin())
  if (begun === 'later') {
    const full = await whyFull(engine.db, run.id)
    if (full) return later(engine, run.id, full)
    const other = row.kind === 'backup' ? `Another backup of ${row.vessel_name}` : `Another run that looks after ${storeOf(row)}`
    return later(engine, run.id, `${other} goes on; it begins when that is over.`)
  }
  if (begun !== 'begun') return 'over'
  const end = () => run.abort.abort(workerStopped())
  stop?.addEventListener('abort', end)
  if (stop?.aborted) end()
  const vessel = {
    id: row.vessel_id,
    slug: row.slug,
    name: row.vessel_name,
    pause: row.pause,
    gone: row.gone,
    version: row.vessel_version,
    definition: row.definition,
  }
  try {
    run.signal.throwIfAborted()
    await RUNS[row.kind]({ run, vessel, name: row.name, comment: row.comment, store: storeOf(row) }, row.params)
  } catch (thrown) {
    const error = run.signal.aborted ? run.signal.reason : isAway(thrown) ? serverGone(thrown) : thrown
    if (!(error instanceof VesselError)) console.error(`run ${run.id}:`, error)
    await run.say('error', errorRecord(error).what).catch(() => undefined)
    await run.end(error instanceof VesselError && error.code === 'cancelled' ? 'cancelled' : 'failed', { error })
  } finally {
    stop?.removeEventListener('abort', end)
  }
  return 'over'
}

/** Why this worker does not reach a store that another one may reach; null for what is wrong with the store itself. */
async function whyUnreached(engine: EngineContext, store: string): Promise<string | null> {
  try {
    await openStore(engine, { name: store })
    return null
  } catch (error) {
    const { code, what } = errorRecord(error)
    return AWAY.has(code) ? `A worker does not reach the store ${store}: ${what} It is left to another one for a while.` : null
  }
}

async function later(engine: EngineContext, runId: string, why: string): Promise<'later'> {
  const changed = await engine.db
    .updateTable('run')
    .set({ waits_for: why })
    .where('id', '=', runId)
    .where('state', '=', 'waiting')
    .where(sql<boolean>`waits_for is distinct from ${why}`)
    .returning('vessel_id')
    .executeTakeFirst()
  if (changed) await notify(engine.db, { about: 'run', id: runId, vessel: changed.vessel_id, state: 'waiting' })
  return 'later'
}

const workerStopped = () =>
  new VesselError('worker_stopped', {
    what: 'The worker that did this run was told to stop, and the run was not over in time.',
    touched: 'What was at hand was rolled back or removed; what its record lists as done stays.',
    next: 'Start it again.',
  })

/** What speaks to sources tells of them itself, so that it mostly is the catalog. */
const serverGone = (cause: unknown) =>
  new VesselError('catalog_away', {
    what: `The catalog, or another server that this run needs, went away in the middle of it: ${(cause as Error).message}`,
    touched: 'What was at hand was rolled back or removed; what its record lists as done stays.',
    next: 'Start it again.',
    cause,
  })
