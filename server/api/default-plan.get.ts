import { defaultPlan } from '../../engine/catalog/default-plan'

/** With what a new vessel begins; an empty object where nobody said. */
export default route(async (engine) => (await defaultPlan(engine)) ?? {})
