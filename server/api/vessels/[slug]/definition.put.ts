import * as v from 'valibot'
import { saveDefinition } from '../../../../engine/catalog/vessels'

const Body = v.strictObject({ basedOn: v.pipe(v.number(), v.integer()), definition: Definition })

export default route(async (engine, event) => {
  const { basedOn, definition } = await bodyOf(event, Body)
  return { version: await saveDefinition(engine, slugOf(event), basedOn, definition) }
})
