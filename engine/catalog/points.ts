import { lackOf } from '../../core/content/missing'
import { VesselError } from '../../core/errors'
import { countInWords } from '../../core/time/words'
import type { EngineContext } from '../context'
import type { Vessel } from './vessels'

/**
 * Refuses a point that is not whole for what runs without anybody having looked at it.
 * @throws VesselError `point_incomplete`
 */
export async function requireWhole(engine: EngineContext, pointId: string): Promise<void> {
  const point = await engine.db.selectFrom('point').select(['missing', 'damage']).where('id', '=', pointId).executeTakeFirst()
  const lack = point && lackOf(point)
  if (!lack) return
  throw new VesselError('point_incomplete', {
    what: `This point does not hold all that it was to hold: ${countInWords(lack.count)} ${lack.count === 1 ? 'thing is' : 'things are'} missing. ${lack.first}`,
    touched: 'Nothing was restored.',
    next: 'Choose another point, or say that it is taken as it is.',
    status: 409,
  })
}

/** The newest point of a vessel, of those that backups made; null when there is none yet. */
export async function lastPoint(engine: EngineContext, vesselId: string): Promise<string | null> {
  const point = await engine.db
    .selectFrom('point')
    .select('id')
    .where('vessel_id', '=', vesselId)
    .where('kept_for', 'is', null)
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirst()
  return point?.id ?? null
}

/**
 * The newest point of a vessel, of those that backups made.
 * @throws VesselError `no_point` when there is none yet.
 */
export async function newestPoint(engine: EngineContext, vessel: Pick<Vessel, 'id' | 'name'>): Promise<string> {
  const id = await lastPoint(engine, vessel.id)
  if (id) return id
  throw new VesselError('no_point', {
    what: `${vessel.name} has no recovery point yet.`,
    touched: 'Nothing was changed.',
    next: 'Back it up first.',
    status: 409,
  })
}
