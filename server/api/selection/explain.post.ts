import * as v from 'valibot'
import { thingsPresent } from '../../../engine/catalog/sources'
import { keptOut } from '../../../core/selection/explain'

const Body = v.strictObject({ rules: Rules, rule: v.string() })

/** What a rule would decide over if its labels were others, thing by thing. */
export default route(async (engine, event) => {
  const { rules, rule } = await bodyOf(event, Body)
  return keptOut(rules, rule, await thingsPresent(engine))
})
