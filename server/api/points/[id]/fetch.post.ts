import { vesselById } from '../../../../engine/catalog/vessels'
import { noRows, openPoint } from '../../../../engine/points/open'

/** Starts reading into the store what this point has in one place only, at its source. */
export default route(async (engine, event) => {
  const { id, vesselId } = await openPoint(engine, pointOf(event), noRows)
  const vessel = await vesselById(engine, vesselId)
  return created(event, { id: await engine.startRun({ kind: 'fetch', vessel, startedBy: PERSON, params: { point: id } }) })
})
