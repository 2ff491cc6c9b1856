import { runDetail } from '../../../../engine/catalog/run-views'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** The same run once more, with the definition of now. */
export default route(async (engine, event) => {
  const { kind, slug, name, comment, params } = await runDetail(engine, idOf(event))
  const vessel = await vesselBySlug(engine, slug)
  return created(event, { id: await engine.startRun({ kind, vessel, startedBy: PERSON, name, comment, params }) })
})
