import { VesselError } from '../../../../core/errors'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** Undoes one transaction. It changes what stands, so it asks for a reason. */
export default route(async (engine, event) => {
  const { transaction, choices, reason } = await bodyOf(event, Undo)
  if (!reason.trim()) {
    throw new VesselError('reason_missing', {
      what: 'Rows that stand there would be changed, and no reason is given.',
      touched: 'Nothing was changed.',
      next: 'Write why; it is kept with the receipt.',
      status: 400,
    })
  }
  const vessel = await vesselBySlug(engine, slugOf(event))
  const params = { transaction, choices, reason }
  return created(event, { id: await engine.startRun({ kind: 'undo', vessel, startedBy: PERSON, comment: reason, params }) })
})
