import { VesselError } from '../../../../core/errors'
import { stillTroubles } from '../../../../core/quiesce/sequence'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** Rehearses a sequence as it is on the screen, saved or not: holds and releases for real, and backs nothing up. */
export default route(async (engine, event) => {
  const still = await bodyOf(event, StillSchema)
  const troubles = stillTroubles(still)
  if (troubles.length > 0 || still.steps.length === 0)
    throw new VesselError('still_invalid', {
      what: troubles[0] ?? 'There is no step that could be rehearsed.',
      touched: 'Nothing was held.',
      next: 'Mend the sequence, then rehearse it.',
      status: 400,
    })
  const vessel = await vesselBySlug(engine, slugOf(event))
  return created(event, { id: await engine.startRun({ kind: 'still', vessel, startedBy: PERSON, params: { still } }) })
})
