import { readRef } from '../../../../core/chain/moment-ref'
import { requireWhole } from '../../../../engine/catalog/points'
import { savedRestoreRan } from '../../../../engine/catalog/saved-restores'
import { vesselById } from '../../../../engine/catalog/vessels'
import { noRows, openPoint } from '../../../../engine/points/open'
import { blockedBy, planAll, planDigest, requireAgreed, requireReason } from '../../../../engine/runs/restore-plan'

/** Brings things back, or rehearses it. What is overwritten asks for a reason, which is kept. */
export default route(async (engine, event) => {
  const { wish, reason, rehearsal, agreed, saved, asItIs } = await bodyOf(event, Restore)
  const point = await openPoint(engine, pointOf(event), noRows)
  const planned = await planAll(engine, point, wish)
  const blocker = blockedBy(planned)
  if (blocker) throw blocker
  if (saved && !rehearsal && !asItIs && !readRef(point.id)) await requireWhole(engine, point.id)
  if (!rehearsal) {
    requireAgreed(planned, agreed)
    requireReason(planned, reason)
  }
  const vessel = await vesselById(engine, point.vesselId)
  const id = await engine.startRun({
    kind: rehearsal ? 'rehearsal' : 'restore',
    vessel,
    startedBy: PERSON,
    comment: reason,
    params: { point: point.id, wish, reason, agreed: planDigest(planned) },
  })
  if (saved && !rehearsal) await savedRestoreRan(engine, saved, id)
  return created(event, { id })
})
