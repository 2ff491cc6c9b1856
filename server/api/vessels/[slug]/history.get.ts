import * as v from 'valibot'
import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { rowHistory } from '../../../../engine/look/row-history'

const Query = v.object({
  path: v.string(),
  column: v.string(),
  value: v.pipe(v.string(), v.maxLength(10_000)),
  before: v.optional(Moment),
})

/** In which points rows with a value are, and how they went from point to point. */
export default route(async (engine, event) => {
  const { before, ...query } = queryOf(event, Query)
  const { id } = await vesselBySlug(engine, slugOf(event))
  return rowHistory(engine, id, { ...query, before: before ?? null })
})
