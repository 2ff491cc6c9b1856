import { VesselError } from '../../core/errors'
import type { PinRecord } from '../catalog/retention-types'
import type { EngineContext } from '../context'
import { notify } from '../notify'

/** Pins a point: it stays whatever retention says, until a moment or until it is unpinned. @throws VesselError `point_missing` */
export function pinPoint(
  engine: EngineContext,
  id: string,
  { reason, until, by }: { reason: string; until: Date | null; by: string },
): Promise<void> {
  const pin: PinRecord = { reason: reason.trim(), until: until?.toISOString() ?? null, by, at: engine.clock.now().toISOString() }
  return setPin(engine, id, pin)
}

export const unpinPoint = (engine: EngineContext, id: string): Promise<void> => setPin(engine, id, null)

async function setPin(engine: EngineContext, id: string, pin: PinRecord | null): Promise<void> {
  const row = await engine.db
    .updateTable('point')
    .set({ pin: pin && JSON.stringify(pin) })
    .where('id', '=', id)
    .returning('vessel_id')
    .executeTakeFirst()
  if (!row) throw pointMissing()
  await notify(engine.db, { about: 'vessel', id: row.vessel_id })
}

export const pointMissing = () =>
  new VesselError('point_missing', {
    what: 'This recovery point does not exist any more.',
    touched: 'Nothing was changed.',
    next: 'Choose another one on the lifeline.',
    status: 404,
  })
