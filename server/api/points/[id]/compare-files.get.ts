import * as v from 'valibot'
import { compareVolume } from '../../../../engine/compare/cluster'
import { noRows, openPoint } from '../../../../engine/points/open'

/** The files of a volume in this point, and now or in another one. */
export default route(async (engine, event) => {
  const { path, against } = queryOf(event, v.object({ path: v.string(), against: v.optional(PointId) }))
  return compareVolume(engine, await openPoint(engine, pointOf(event), noRows), path, against ?? null)
})
