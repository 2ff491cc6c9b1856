import * as v from 'valibot'
import { PauseForm } from '../../../../core/asked'
import { pauseVessel } from '../../../../engine/catalog/pauses'

const Body = v.strictObject({ ...PauseForm.entries, ...UntilMoment })

/** Pauses a vessel until a moment, or until it is resumed. */
export default route(async (engine, event) => {
  const { reason, until } = await bodyOf(event, Body)
  await pauseVessel(engine, slugOf(event), { reason, until, by: PERSON })
  return null
})
