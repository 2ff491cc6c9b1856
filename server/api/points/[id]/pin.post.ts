import * as v from 'valibot'
import { PinForm } from '../../../../core/asked'
import { pinPoint } from '../../../../engine/retention/pins'

const Body = v.strictObject({ ...PinForm.entries, ...UntilMoment })

/** Pins a point: it stays whatever retention says. */
export default route(async (engine, event) => {
  const { reason, until } = await bodyOf(event, Body)
  await pinPoint(engine, idOf(event), { reason, until, by: PERSON })
  return null
})
