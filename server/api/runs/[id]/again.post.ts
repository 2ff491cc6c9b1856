import { VesselError } from '../../../../core/errors'
import { runDetail } from '../../../../engine/catalog/run-views'
import type { RunKind } from '../../../../engine/catalog/types'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** What changes what stands: nobody has seen yet what it would do now. */
const NEEDS_PLAN: readonly RunKind[] = ['restore', 'rehearsal', 'undo']

/** The same run once more, with the definition of now. */
export default route(async (engine, event) => {
  const { kind, slug, name, comment, params } = await runDetail(engine, idOf(event))
  if (NEEDS_PLAN.includes(kind))
    throw new VesselError('needs_plan', {
      what: 'A restore is not started again without a look at what it would do now.',
      touched: 'Nothing was changed.',
      next: 'Open it on the workbench, where its plan is made anew.',
      status: 409,
    })
  const vessel = await vesselBySlug(engine, slug)
  return created(event, { id: await engine.startRun({ kind, vessel, startedBy: PERSON, name, comment, params }) })
})
