import * as v from 'valibot'
import { setPrice } from '../../../../engine/catalog/stores'

const amount = v.pipe(v.number(), v.minValue(0, 'A price is 0 or more.'), v.maxValue(1_000_000, 'A price is a million at most.'))
const Body = v.strictObject({ price: v.nullable(v.strictObject({ perGbMonth: amount, perGbRead: amount })) })

/** Says what a store costs, so that plans tell what they will; null: nobody knows. */
export default route(async (engine, event) => {
  const { price } = await bodyOf(event, Body)
  await setPrice(engine, idOf(event), price)
  return null
})
