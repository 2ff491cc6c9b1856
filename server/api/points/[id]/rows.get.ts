import * as v from 'valibot'
import { rowPage } from '../../../../engine/look/rows'

const Query = v.object({
  path: v.string(),
  order: v.optional(v.picklist(['stored', 'key', 'key-descending']), 'stored'),
  offset: v.optional(Whole, '0'),
  limit: v.optional(v.pipe(Whole, v.maxValue(500)), '100'),
  filter: v.optional(Conditions, '[]'),
  after: v.optional(Place),
})

/** A page of the rows of a table in a point. */
export default route((engine, event) => {
  const { after, ...query } = queryOf(event, Query)
  return rowPage(engine, pointOf(event), { ...query, after: after ?? null })
})
