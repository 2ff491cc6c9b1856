import * as v from 'valibot'
import { compareManifest } from '../../../../engine/compare/cluster'
import { noRows, openPoint } from '../../../../engine/points/open'

/** An object of a namespace then, and now or at another point, field by field. */
export default route(async (engine, event) => {
  const { path, against } = queryOf(event, v.object({ path: v.string(), against: v.optional(PointId) }))
  return compareManifest(engine, await openPoint(engine, pointOf(event), noRows), path, against ?? null)
})
