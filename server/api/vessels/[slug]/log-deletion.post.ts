import * as v from 'valibot'
import { DeleteForm } from '../../../../core/asked'
import { deleteLog } from '../../../../engine/retention/log-deletion'

/** The stretch, and how many segments the person was told of. */
const Body = v.strictObject({ ...DeleteForm.entries, from: Moment, to: Moment, segments: v.pipe(v.number(), v.integer(), v.minValue(1)) })

/** Deletes a stretch of its log. It can't be taken back. */
export default route(async (engine, event) => {
  const { from, to, ...told } = await bodyOf(event, Body)
  await deleteLog(engine, slugOf(event), { from, to }, { ...told, by: PERSON })
  return null
})
