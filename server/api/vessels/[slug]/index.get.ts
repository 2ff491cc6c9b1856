import { zoneOfSources } from '../../../../engine/catalog/sources'
import { nextPlanned } from '../../../../engine/catalog/schedule-views'
import { standingOfVessel } from '../../../../engine/catalog/standing'
import { goneView } from '../../../../engine/retention/vessel-deletion'
import { openLosses } from '../../../../engine/watch/losses'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

export default route(async (engine, event) => {
  const vessel = await vesselBySlug(engine, slugOf(event))
  return {
    ...(await standingOfVessel(engine, vessel)),
    losses: await openLosses(engine, vessel),
    zone: await zoneOfSources(engine, vessel),
    planned: await nextPlanned(engine, vessel),
    definition: vessel.definition,
    gone: await goneView(engine, vessel),
  }
})
