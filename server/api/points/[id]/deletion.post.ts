import * as v from 'valibot'
import { DeleteForm } from '../../../../core/asked'
import { deletePoint } from '../../../../engine/retention/deletion'

/** The points that the person was told of, the one that is named among them. */
const Body = v.strictObject({ ...DeleteForm.entries, points: v.pipe(v.array(Id), v.minLength(1), v.maxLength(100_000)) })

/** Deletes a point with all that build on it. It can't be taken back. */
export default route(async (engine, event) => {
  const { reason, points } = await bodyOf(event, Body)
  await deletePoint(engine, idOf(event), { points, reason, by: PERSON })
  return null
})
