import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { VesselError } from '../../core/errors'
import { takesFromSource } from '../../core/plan/paused'
import type { Wish } from '../../core/restore/wish'
import type { CatalogDb } from './connect'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import type { RunKind } from './types'
import { requireThere, type Vessel } from './vessels'

export interface NewRun {
  kind: RunKind
  vessel: Vessel
  startedBy: string
  name?: string | null
  comment?: string | null
  params?: Record<string, unknown>
}

/** The store that a run works with, by its name, where one asks the catalog; as `storeOf` says it of one that was read. */
export const storeOfRun = (run: 'run' | 'other') =>
  sql`coalesce(${sql.ref(`${run}.params`)}->>'store', (select definition->>'store' from vessel_version version
    where version.vessel_id = ${sql.ref(`${run}.vessel_id`)} and version.version = ${sql.ref(`${run}.vessel_version`)}))`

/** Whether a run is known here and neither waits nor is at work. */
export async function isOver(engine: EngineContext, id: string): Promise<boolean> {
  const row = await engine.db
    .selectFrom('run')
    .select('state')
    .where(sql<string>`id::text`, '=', id)
    .executeTakeFirst()
  return row !== undefined && row.state !== 'running' && row.state !== 'waiting'
}

/** Records a run that a worker shall do; `queue` puts it into the queue, in the same transaction. */
export async function addRun(
  engine: EngineContext,
  run: NewRun,
  queue: (tx: CatalogDb, id: string, kind: RunKind) => Promise<void> = async () => undefined,
): Promise<string> {
  const now = engine.clock.now()
  const id = await engine.db.transaction().execute(async (tx) => {
    const id = await insertRun(tx, run, now)
    await queue(tx, id, run.kind)
    return id
  })
  await notify(engine.db, { about: 'run', id, vessel: run.vessel.id, state: 'waiting' })
  return id
}

/** Runs that read from the sources of a vessel what it protects. */
const MAKES: RunKind[] = ['backup', 'hold', 'audit']

/** Writes down a run within a transaction. Whoever does it puts the run into the queue there, and tells of it afterwards. */
export async function insertRun(tx: CatalogDb, run: NewRun, now: Date): Promise<string> {
  const id = randomUUID()
  if (MAKES.includes(run.kind)) {
    const { gone } = await tx.selectFrom('vessel').select('gone').where('id', '=', run.vessel.id).forShare().executeTakeFirstOrThrow()
    requireThere({ name: run.vessel.name, gone })
  }
  await tx
    .insertInto('run')
    .values({
      id,
      kind: run.kind,
      vessel_id: run.vessel.id,
      vessel_version: run.vessel.version,
      state: 'waiting',
      name: run.name?.trim() || null,
      comment: run.comment?.trim() || null,
      started_by: run.startedBy,
      params: JSON.stringify(run.params ?? {}),
      sources: await sourcesOf(tx, run),
      at: now,
      created_at: now,
      counters: '{}',
    })
    .execute()
  return id
}

/** Kinds of runs that work at no source. */
const AT_NONE: RunKind[] = ['verify', 'reindex', 'prune']

/** Names of the sources at which a run works: where it restores into, or else where its vessel takes from. */
async function sourcesOf(tx: CatalogDb, { kind, vessel, params }: NewRun): Promise<string[]> {
  if (AT_NONE.includes(kind)) return []
  const { into, cluster } = (params?.wish ?? {}) as Partial<Wish>
  const elsewhere = [...(into && 'source' in into && into.source ? [into.source] : []), ...(cluster?.source ? [cluster.source] : [])]
  if (elsewhere.length > 0) return [...new Set(elsewhere)]
  const takes = takesFromSource(vessel.definition)
  const rows = await tx.selectFrom('source').select('name').orderBy('name').execute()
  return rows.map(({ name }) => name).filter(takes)
}

/** Ends a run that no worker has begun. Returns its vessel; undefined when it does not wait. */
export async function cancelWaiting(engine: EngineContext, id: string): Promise<string | undefined> {
  const now = engine.clock.now()
  const error = new VesselError('cancelled', {
    what: 'The run was cancelled before it began.',
    touched: 'Nothing was touched.',
    next: 'Start it again whenever you like.',
  })
  const row = await engine.db
    .updateTable('run')
    .set({ state: 'cancelled', cancel_requested_at: now, finished_at: now, error: JSON.stringify(error) })
    .where('id', '=', id)
    .where('state', '=', 'waiting')
    .returning('vessel_id')
    .executeTakeFirst()
  return row?.vessel_id
}

/** Asks a run to stop. One that waits ends at once; the worker that does it sees this within a second and leaves nothing half-made. */
export async function requestCancel(engine: EngineContext, id: string): Promise<void> {
  const waiting = await cancelWaiting(engine, id)
  if (waiting) return notify(engine.db, { about: 'run', id, vessel: waiting, state: 'cancelled' })
  const row = await engine.db
    .updateTable('run')
    .set({ cancel_requested_at: engine.clock.now() })
    .where('id', '=', id)
    .where('state', '=', 'running')
    .returning('vessel_id')
    .executeTakeFirst()
  if (!row) {
    throw new VesselError('run_over', {
      what: 'This run is over already, or never was.',
      touched: 'Nothing was changed.',
      next: 'Look at how it ended.',
      status: 409,
    })
  }
  await notify(engine.db, { about: 'run', id, vessel: row.vessel_id, state: 'cancelling' })
}
