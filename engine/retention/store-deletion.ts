import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { withoutPoints } from '../../core/chain/without'
import type { DateRange } from '../../core/chain/chain'
import { errorRecord, VesselError } from '../../core/errors'
import { lanesOf } from '../catalog/lifeline'
import type { CatalogDb } from '../catalog/connect'
import { lockStore, runInStore } from '../catalog/store-changes'
import { openStore, vesselsKeeping } from '../catalog/stores'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { FolderBackend } from '../store/folder'
import { addToDeleted, writeDeleted } from './deleted-places'
import { Departure } from './departure'
import { forgetPoints } from './lapse'
import { refused } from './refused'

/** What deleting a store takes away. */
export interface StoreDeletion {
  /** Vessels that keep their points there; as long as there are any, it is not deleted. */
  keptBy: string[]
  /** Whose points go, how many, and where every moment can be entered now and none then. */
  vessels: { slug: string; name: string; points: number; pinned: number; lost: DateRange[] }[]
  /** States that were kept before a restore overwrote them. */
  kept: number
  segments: number
  /** Bytes of its files. */
  bytes: number
  path: string
}

export async function storeDeletion(engine: EngineContext, id: string): Promise<StoreDeletion> {
  const going = await goingWith(engine, id)
  const { path, name } = await lockStore(engine.db, id)
  const { rows } = await sql<{ kept: number; segments: number; bytes: number }>`select
    (select count(*)::int from point where store_id = ${id} and kept_for is not null) as kept,
    (select count(*)::int from artifact where store_id = ${id} and kind = 'log') as segments,
    (select coalesce(sum(bytes), 0)::float8 from pack where store_id = ${id} and committed) as bytes`.execute(engine.db)
  const keptBy = await vesselsKeeping(engine, name)
  return { keptBy: keptBy.map((vessel) => vessel.name), vessels: going.map(({ ids: _, ...of }) => of), ...rows[0]!, path }
}

/** By vessel: the points in a store, and those elsewhere that build on them. */
async function goingWith(engine: EngineContext, id: string): Promise<(StoreDeletion['vessels'][number] & { ids: string[] })[]> {
  const rows = await engine.db
    .selectFrom('point')
    .innerJoin('vessel', 'vessel.id', 'point.vessel_id')
    .select(['point.id', 'vessel.id as vessel', 'vessel.slug', 'vessel.name'])
    .where('point.store_id', '=', id)
    .where('point.kept_for', 'is', null)
    .orderBy('vessel.name')
    .execute()
  const vessels = new Map(rows.map((row) => [row.vessel, row]))
  return Promise.all(
    [...vessels.values()].map(async ({ vessel, slug, name }) => {
      const lanes = await lanesOf(engine, vessel)
      const here = rows.flatMap((row) => (row.vessel === vessel ? [row.id] : []))
      const { points, lost } = withoutPoints({ ...lanes, marks: lanes.artifacts }, here)
      const pinned = lanes.points.filter((point) => point.pin !== null && points.includes(point.id)).length
      return { slug, name, points: points.length, pinned, lost, ids: points }
    }),
  )
}

/**
 * Forgets a store and all that lies in it, its key included; and erases its files where that was asked for.
 *
 * @returns what kept its files from being erased; null where they are, or were to stay
 * @throws VesselError `store_missing`, `not_erased`, `store_in_use`, `store_kept`, `point_pinned`, `log_rests`, `deletion_changed`
 */
export async function deleteStore(
  engine: EngineContext,
  id: string,
  told: { points: number; erase: boolean; reason: string; by: string },
): Promise<string | null> {
  // What lies there now may be another store: a disk was changed, or its place was given away.
  if (told.erase) await requireItself(engine, id)
  const path = await engine.db.transaction().execute(async (tx) => {
    const store = await lockStore(tx, id)
    await mayGo({ ...engine, db: tx }, id, store.name)
    const going = await goingWith({ ...engine, db: tx }, id)
    if (going.some(({ pinned }) => pinned > 0))
      throw refused('point_pinned', 'Points that lie in it are pinned.', 'Take the pins back first, if they may go.')
    const points = going.reduce((sum, of) => sum + of.points, 0)
    if (points !== told.points)
      throw refused(
        'deletion_changed',
        `By now ${points} points go with it, not the ${told.points} that were shown.`,
        'Look again, then decide.',
      )
    const ids = going.flatMap((of) => of.ids)
    await forgetAll(tx, engine, { id, name: store.name }, ids, told)
    return store.path
  })
  const left = told.erase ? await erase(path) : null
  if (left) await addToDeleted(engine.db, id, left)
  await notify(engine.db, { about: 'store' })
  return left
}

/** @throws VesselError `not_erased`, where what lies at its place is not surely this store */
async function requireItself(engine: EngineContext, id: string): Promise<void> {
  try {
    await openStore(engine, { id })
  } catch (error) {
    const { code, what } = errorRecord(error)
    if (code === 'store_missing') throw error
    throw refused('not_erased', `Its files can’t be erased: ${what}`, 'Leave its files where they are, and delete the store alone.')
  }
}

/** @throws VesselError why it can't be deleted */
async function mayGo(engine: EngineContext, id: string, name: string): Promise<void> {
  const keptBy = await vesselsKeeping(engine, name)
  if (keptBy.length > 0)
    throw refused(
      'store_kept',
      `${keptBy[0]!.name}${keptBy.length > 1 ? ` and ${keptBy.length - 1} more` : ''} keeps its points there.`,
      'Choose another store in its definition first, or delete it.',
    )
  const running = await runInStore(engine.db, name)
  if (running)
    throw refused('store_in_use', `A ${running} that works with ${name} waits or goes on.`, 'Wait until that is over, or cancel it.')
  const { rows } = await sql<{ member: string }>`select member from follower, chunk
    where chunk.store_id = ${id} and encode(chunk.name, 'hex') = any(array(select jsonb_array_elements_text(structure_names->'chunks')))
    and not exists (select from chunk other where other.name = chunk.name and other.store_id <> chunk.store_id) limit 1`.execute(engine.db)
  if (rows[0])
    throw refused(
      'log_rests',
      `The log of ${rows[0].member} still rests on what lies there.`,
      'Back it up in full into its new store first.',
    )
}

async function forgetAll(
  tx: CatalogDb,
  engine: EngineContext,
  { id, name }: { id: string; name: string },
  points: string[],
  { reason, by }: { reason: string; by: string },
): Promise<void> {
  const departure = new Departure({ ...engine, db: tx }, randomUUID(), id)
  const kept = await tx.selectFrom('point').select('id').where('store_id', '=', id).where('kept_for', 'is not', null).execute()
  const ids = [...points, ...kept.map((point) => point.id)]
  await forgetPoints(tx, departure, ids, { run: null, by, why: `its store was deleted: ${reason.trim()}`, at: engine.clock.now() })
  await tx.deleteFrom('artifact').where('store_id', '=', id).execute()
  await tx.deleteFrom('chunk').where('store_id', '=', id).execute()
  await tx.deleteFrom('pack').where('store_id', '=', id).execute()
  await writeDeleted(tx, { id, kind: 'store', name, at: engine.clock.now(), by, why: reason })
  await tx.deleteFrom('store').where('id', '=', id).execute()
}

async function erase(path: string): Promise<string | null> {
  try {
    await new FolderBackend(path).erase()
    return null
  } catch (error) {
    if (error instanceof VesselError) return error.message
    throw error
  }
}
