import * as v from 'valibot'
import { findFiles } from '../../../../engine/compare/cluster'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

const Query = v.object({ name: v.pipe(v.string(), v.nonEmpty('A name is missing.'), v.maxLength(255)), points: v.optional(Whole, '60') })

/** Where a file is, by its name, through the newest points. */
export default route(async (engine, event) => {
  const { name, points } = queryOf(event, Query)
  return findFiles(engine, (await vesselBySlug(engine, slugOf(event))).id, name, Math.min(500, points))
})
