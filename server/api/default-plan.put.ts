import * as v from 'valibot'
import { setDefaultPlan } from '../../engine/catalog/default-plan'

const Body = v.strictObject({ schedule: v.nullable(ScheduleSchema), retention: v.nullable(RetentionSchema) })

/** Says with what new vessels begin. */
export default route(async (engine, event) => {
  await setDefaultPlan(engine, await bodyOf(event, Body))
  return null
})
