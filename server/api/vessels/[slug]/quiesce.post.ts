import { VesselError } from '../../../../core/errors'
import { quiesceTroubles } from '../../../../core/quiesce/sequence'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** Rehearses a sequence as it is on the screen, saved or not: holds and releases for real, and backs nothing up. */
export default route(async (engine, event) => {
  const quiesce = await bodyOf(event, QuiesceSchema)
  const troubles = quiesceTroubles(quiesce)
  if (troubles.length > 0 || quiesce.steps.length === 0)
    throw new VesselError('quiesce_invalid', {
      what: troubles[0] ?? 'There is no step that could be rehearsed.',
      touched: 'Nothing was held.',
      next: 'Mend the sequence, then rehearse it.',
      status: 400,
    })
  const vessel = await vesselBySlug(engine, slugOf(event))
  return created(event, { id: await engine.startRun({ kind: 'hold', vessel, startedBy: PERSON, params: { quiesce } }) })
})
