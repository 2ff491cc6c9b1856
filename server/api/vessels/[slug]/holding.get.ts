import * as v from 'valibot'
import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { pointHolding } from '../../../../engine/points/with-path'

const Query = v.object({ path: v.string() })

/** The newest point that holds a thing, or null. */
export default route(async (engine, event) => {
  const vessel = await vesselBySlug(engine, slugOf(event))
  return { point: await pointHolding(engine, vessel.id, queryOf(event, Query).path) }
})
