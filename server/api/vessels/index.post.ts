import * as v from 'valibot'
import { Named } from '../../../core/asked'
import { addVessel } from '../../../engine/catalog/vessels'

const Body = v.strictObject({ ...Named.entries, definition: Definition })

export default route(async (engine, event) => {
  const { name, definition } = await bodyOf(event, Body)
  const { slug, version } = await addVessel(engine, name, definition)
  return created(event, { slug, version })
})
