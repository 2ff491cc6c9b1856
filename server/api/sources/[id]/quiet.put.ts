import * as v from 'valibot'
import { text } from '../../../../core/asked'
import { setQuiet } from '../../../../engine/catalog/pauses'

const Time = v.strictObject({ zone: text(80), from: text(5), to: text(5), days: v.pipe(v.array(v.number()), v.maxLength(7)) })
const Body = v.strictObject({ times: v.pipe(v.array(Time), v.maxLength(100)) })

/** Says when no plan begins anything at this source. */
export default route(async (engine, event) => {
  const { times } = await bodyOf(event, Body)
  await setQuiet(engine, idOf(event), times)
  return null
})
