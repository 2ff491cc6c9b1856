import * as v from 'valibot'
import { vesselBySlug } from '../../engine/catalog/vessels'
import { readinessOf } from '../../engine/log/readiness'

const Body = v.strictObject({ rules: Rules, log: v.optional(LogPlanSchema), vessel: v.optional(v.nullable(v.string()), null) })

/** Whether the log of what rules take could be followed, and what is missing for it. */
export default route(async (engine, event) => {
  const { rules, log, vessel } = await bodyOf(event, Body)
  const saved = vessel ? await vesselBySlug(engine, vessel) : null
  return readinessOf(engine, saved?.id ?? null, { rules, log })
})
