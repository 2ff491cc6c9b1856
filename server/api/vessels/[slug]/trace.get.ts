import * as v from 'valibot'
import { heavyOf, traceOf } from '../../../../engine/catalog/trace'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

const Query = v.object({ from: Moment, to: Moment })
const HEAVY = 12

/** What changed in a stretch of time: rows by table over time, changes of structure, and the heaviest transactions. */
export default route(async (engine, event) => {
  const { from, to } = queryOf(event, Query)
  const { id } = await vesselBySlug(engine, slugOf(event))
  return { ...(await traceOf(engine, id, from, to)), heavy: await heavyOf(engine, id, from, to, HEAVY) }
})
