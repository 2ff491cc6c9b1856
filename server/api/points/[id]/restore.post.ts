import { VesselError } from '../../../../core/errors'
import { vesselById } from '../../../../engine/catalog/vessels'
import { blockedBy, openPoint, planWish } from '../../../../engine/runs/restore-plan'

/** Brings things back, or rehearses it. What is overwritten asks for a reason, which is kept. */
export default route(async (engine, event) => {
  const { wish, reason, rehearsal } = await bodyOf(event, Restore)
  const point = await openPoint(engine, idOf(event))
  const planned = await planWish(engine, point, wish)
  const blocker = blockedBy(planned)
  if (blocker) throw blocker
  const overwrites = planned.some(({ plan }) =>
    plan.operations.some((operation) => operation.overwrites !== null || operation.verb === 'replace'),
  )
  if (!rehearsal && overwrites && !reason?.trim()) {
    throw new VesselError('reason_missing', {
      what: 'Something would be overwritten, and no reason is given.',
      touched: 'Nothing was changed.',
      next: 'Write why; it is kept with the receipt.',
      status: 400,
    })
  }
  const vessel = await vesselById(engine, point.vesselId)
  const id = await engine.startRun({
    kind: rehearsal ? 'rehearsal' : 'restore',
    vessel,
    startedBy: PERSON,
    comment: reason,
    params: { point: point.id, wish, reason },
  })
  return created(event, { id })
})
