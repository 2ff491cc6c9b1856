import { runDetail } from '../../../../engine/catalog/run-views'
import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { planAgain } from '../../../../engine/runs/again'

/** The same run once more, with the definition of now. A restore is planned anew against what stands now. */
export default route(async (engine, event) => {
  const { kind, slug, name, comment, params } = await runDetail(engine, idOf(event))
  const vessel = await vesselBySlug(engine, slug)
  if (kind !== 'restore') return created(event, { id: await engine.startRun({ kind, vessel, startedBy: PERSON, name, comment, params }) })
  const { reason } = await bodyOf(event, Again)
  const again = await planAgain(engine, params, reason)
  return created(event, { id: await engine.startRun({ kind, vessel, startedBy: PERSON, name, comment: reason, params: again }) })
})
