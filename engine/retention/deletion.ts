import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import type { DateRange } from '../../core/chain/chain'
import { withoutPoints } from '../../core/chain/without'
import { plural } from '../../core/time/words'
import { lanesOf } from '../catalog/lifeline'
import type { CatalogDb } from '../catalog/connect'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { Departure } from './departure'
import { forgetPoints, inUse } from './lapse'
import { pointMissing } from './pins'
import { refused, vesselInUse } from './refused'

/** What deleting a point takes away. */
export interface Deletion {
  /** The point itself, and all that build on it. */
  points: { id: string; at: Date; name: string | null; pinned: boolean }[]
  /** Where every moment can be entered now, and none then. */
  lost: DateRange[]
  /** Whether it holds the newest state of its vessel. */
  isNewest: boolean
  /** Bytes that they added to the store when they were made; less is freed where newer points rest upon the same content. */
  stored: number
}

export async function deletionOf(engine: EngineContext, id: string): Promise<Deletion> {
  const lanes = await lanesOf(engine, await vesselOfPoint(engine.db, id))
  const { points, artifacts, lost } = withoutPoints({ ...lanes, marks: lanes.artifacts }, [id])
  const going = lanes.points.filter((point) => points.includes(point.id))
  return {
    points: going.map((point) => ({ id: point.id, at: point.at, name: point.name, pinned: point.pin !== null })),
    lost,
    isNewest: going.some((point) => point.id === lanes.points.at(-1)?.id),
    stored: artifacts.reduce((sum, { stored }) => sum + stored, 0),
  }
}

async function vesselOfPoint(db: CatalogDb, id: string): Promise<string> {
  const row = await db.selectFrom('point').select('vessel_id').where('id', '=', id).where('kept_for', 'is', null).executeTakeFirst()
  if (!row) throw pointMissing()
  return row.vessel_id
}

/**
 * Deletes a point with all that build on it, if those are the ones that the person was told of. Its content is freed by
 * the next prune.
 *
 * @throws VesselError `deletion_changed`, `point_pinned`, `vessel_in_use`, `point_missing`
 */
export async function deletePoint(
  engine: EngineContext,
  id: string,
  told: { points: string[]; reason: string; by: string },
): Promise<void> {
  const departure = new Departure(engine, randomUUID())
  const vesselId = await engine.db.transaction().execute(async (tx) => {
    const vesselId = await vesselOfPoint(tx, id)
    await sql`select from vessel where id = ${vesselId} for update`.execute(tx)
    const running = await inUse(tx, vesselId)
    if (running) throw vesselInUse(running)
    const { points } = await deletionOf({ ...engine, db: tx }, id)
    const pinned = points.find((point) => point.pinned)
    if (pinned) throw pointPinned(points.length)
    const ids = points.map((point) => point.id)
    if (ids.length !== told.points.length || !ids.every((going) => told.points.includes(going))) throw deletionChanged(ids.length)
    await forgetPoints(tx, departure, ids, { run: null, by: told.by, why: told.reason.trim(), at: engine.clock.now() })
    return vesselId
  })
  await departure.finish()
  await notify(engine.db, { about: 'vessel', id: vesselId })
}

const pointPinned = (count: number) =>
  refused('point_pinned', `${count > 1 ? 'One of them' : 'It'} is pinned.`, 'Take the pin back first, if it may go.')
const deletionChanged = (count: number) =>
  refused(
    'deletion_changed',
    `Other points go with it than were shown: ${plural(count, 'point')} by now.`,
    'Look at them, then decide again.',
  )
