import * as v from 'valibot'
import { text } from '../../../../core/asked'
import { setPruneTimes } from '../../../../engine/catalog/stores'

const Times = v.strictObject({ zone: text(80), at: text(5) })
const Body = v.strictObject({ times: v.nullable(Times) })

/** Says at which time of each day a store is pruned by itself; null: only when somebody says so. */
export default route(async (engine, event) => {
  const { times } = await bodyOf(event, Body)
  await setPruneTimes(engine, idOf(event), times)
  return null
})
