import * as v from 'valibot'
import { PauseForm } from '../../../../core/asked'
import { pauseWider } from '../../../../engine/catalog/pauses'

const Body = v.strictObject({ ...PauseForm.entries, ...UntilMoment })

/** Pauses all vessels that take something from this source. */
export default route(async (engine, event) => {
  const { reason, until } = await bodyOf(event, Body)
  await pauseWider(engine, idOf(event), { reason, until, by: PERSON })
  return null
})
