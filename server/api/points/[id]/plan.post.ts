import { noRows, openPoint } from '../../../../engine/points/open'
import { planAll, planDigest } from '../../../../engine/runs/restore-plan'

/** The plan for a wish, against what stands at the target now. Changes nothing. */
export default route(async (engine, event) => {
  const wish = await bodyOf(event, WishSchema)
  const point = await openPoint(engine, pointOf(event), noRows)
  const planned = await planAll(engine, point, wish)
  const { databases, namespaces } = planned
  return {
    agreed: planDigest(planned),
    databases: databases.map(({ plan, access }) => ({ ...plan, source: access.name })),
    namespaces: namespaces.map(({ plan }) => plan),
  }
})
