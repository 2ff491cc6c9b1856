import { VesselError } from '../../core/errors'
import type { EngineContext } from '../context'
import type { Vessel } from './vessels'

/**
 * The newest point of a vessel, of those that backups made.
 * @throws VesselError `no_point` when there is none yet.
 */
export async function newestPoint(engine: EngineContext, vessel: Pick<Vessel, 'id' | 'name'>): Promise<string> {
  const point = await engine.db
    .selectFrom('point')
    .select('id')
    .where('vessel_id', '=', vessel.id)
    .where('kept_for', 'is', null)
    .orderBy('at', 'desc')
    .limit(1)
    .executeTakeFirst()
  if (point) return point.id
  throw new VesselError('no_point', {
    what: `${vessel.name} has no recovery point yet.`,
    touched: 'Nothing was changed.',
    next: 'Back it up first.',
    status: 409,
  })
}
