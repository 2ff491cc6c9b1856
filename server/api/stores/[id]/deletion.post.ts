import * as v from 'valibot'
import { DeleteForm } from '../../../../core/asked'
import { deleteStore } from '../../../../engine/retention/store-deletion'

/** With how many points the person was told of; and whether its files are erased as well. */
const Body = v.strictObject({ ...DeleteForm.entries, points: v.pipe(v.number(), v.integer(), v.minValue(0)), erase: v.boolean() })

/** Forgets a store and all that lies in it. It can't be taken back. */
export default route(async (engine, event) => ({
  left: await deleteStore(engine, idOf(event), { ...(await bodyOf(event, Body)), by: PERSON }),
}))
