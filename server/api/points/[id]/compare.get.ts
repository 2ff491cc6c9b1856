import * as v from 'valibot'
import { comparePoints, compareTable } from '../../../../engine/compare/table'

const Query = v.object({ path: v.string(), against: v.optional(PointId) })
const ROWS = 400

/** A table of a point against its source now, or against another point. */
export default route((engine, event) => {
  const { path, against } = queryOf(event, Query)
  return against ? comparePoints(engine, pointOf(event), against, path, ROWS) : compareTable(engine, pointOf(event), path, ROWS)
})
