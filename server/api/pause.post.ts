import * as v from 'valibot'
import { PauseForm } from '../../core/asked'
import { pauseWider } from '../../engine/catalog/pauses'

const Body = v.strictObject({ ...PauseForm.entries, ...UntilMoment })

/** Pauses everything: no plan makes anything until a moment, or until it is resumed. */
export default route(async (engine, event) => {
  const { reason, until } = await bodyOf(event, Body)
  await pauseWider(engine, null, { reason, until, by: PERSON })
  return null
})
