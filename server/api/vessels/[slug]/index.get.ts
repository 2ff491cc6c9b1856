import { standingOfVessel } from '../../../../engine/catalog/standing'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

export default route(async (engine, event) => {
  const vessel = await vesselBySlug(engine, slugOf(event))
  return { ...(await standingOfVessel(engine, vessel)), definition: vessel.definition }
})
