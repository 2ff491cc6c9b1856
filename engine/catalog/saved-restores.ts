import { randomUUID } from 'node:crypto'
import { lackOf, type Lack } from '../../core/content/missing'
import { VesselError } from '../../core/errors'
import type { Begins } from '../../core/restore/choice'
import { wishOf, type Wish } from '../../core/restore/wish'
import { NAME_LENGTH, nameTrouble } from '../../core/things/name'
import type { EngineContext } from '../context'
import type { Vessel } from './vessels'

/** A restore under a name, to be run again on whichever point is wanted then. */
export interface SavedRestore {
  id: string
  name: string
  wish: Wish
  reason: string | null
  createdAt: Date
  lastRun: { id: string; state: string; at: Date } | null
  begins: Begins
  /** The point that it would begin with now; null while there is none, or the named one is gone. */
  point: { id: string; at: Date; lack: Lack | null } | null
}

export async function savedRestores(engine: EngineContext, vesselId: string): Promise<SavedRestore[]> {
  const rows = await engine.db
    .selectFrom('saved_restore')
    .leftJoin('run', 'run.id', 'saved_restore.last_run_id')
    .selectAll('saved_restore')
    .select(['run.id as run_id', 'run.state as run_state', 'run.at as run_at'])
    .where('saved_restore.vessel_id', '=', vesselId)
    .orderBy('saved_restore.name')
    .execute()
  const points = await engine.db
    .selectFrom('point')
    .select(['id', 'at', 'missing', 'damage', 'kept_for'])
    .where('vessel_id', '=', vesselId)
    .orderBy('at', 'desc')
    .execute()
  const all = points.map((point) => ({ id: point.id, at: point.at, isKept: point.kept_for !== null, lack: lackOf(point) }))
  return rows.map((row) => ({
    begins: row.begins,
    point: pointOf(row.begins, all),
    id: row.id,
    name: row.name,
    wish: wishOf(row.wish),
    reason: row.reason,
    createdAt: row.created_at,
    lastRun: row.run_id === null ? null : { id: row.run_id, state: row.run_state!, at: row.run_at! },
  }))
}

/** The point that a saved restore begins with, of all of its vessel with the newest first. */
function pointOf(begins: Begins, all: { id: string; at: Date; isKept: boolean; lack: Lack | null }[]): SavedRestore['point'] {
  const made = all.filter(({ isKept }) => !isKept)
  const found =
    begins.which === 'named'
      ? all.find(({ id }) => id === begins.point)
      : begins.which === 'newest'
        ? made[0]
        : made.find(({ lack }) => lack === null)
  return found ? { id: found.id, at: found.at, lack: found.lack } : null
}

/** Saves a restore under a name, in place of an earlier one of that name. Picked rows belong to one point, so they are not saved. */
export async function saveRestore(
  engine: EngineContext,
  vessel: Vessel,
  name: string,
  wish: Wish,
  reason: string | null,
  begins: Begins = { which: 'newest good' },
): Promise<string> {
  const trouble = nameTrouble(name, NAME_LENGTH)
  if (trouble)
    throw new VesselError('bad_name', { what: trouble, touched: 'Nothing was saved.', next: 'Give it another one.', status: 400 })
  const trimmed = name.trim()
  const values = { wish: JSON.stringify({ ...wish, rows: {} }), reason, begins: JSON.stringify(begins) }
  const { id } = await engine.db
    .insertInto('saved_restore')
    .values({ id: randomUUID(), vessel_id: vessel.id, name: trimmed, created_at: engine.clock.now(), last_run_id: null, ...values })
    .onConflict((conflict) => conflict.columns(['vessel_id', 'name']).doUpdateSet(values))
    .returning('id')
    .executeTakeFirstOrThrow()
  return id
}

/** Tells of which run a saved restore was the beginning; one that is gone by then is told nothing. */
export async function savedRestoreRan(engine: EngineContext, id: string, run: string): Promise<void> {
  await engine.db.updateTable('saved_restore').set({ last_run_id: run }).where('id', '=', id).execute()
}

/** @throws VesselError `saved_restore_missing` */
export async function forgetRestore(engine: EngineContext, id: string): Promise<void> {
  const { numDeletedRows } = await engine.db.deleteFrom('saved_restore').where('id', '=', id).executeTakeFirst()
  if (numDeletedRows > 0n) return
  throw new VesselError('saved_restore_missing', {
    what: 'This saved restore does not exist any more.',
    touched: 'Nothing was changed.',
    next: 'Look at the list of saved restores.',
    status: 404,
  })
}
