import * as v from 'valibot'
import { logDeletionOf } from '../../../../engine/retention/log-deletion'

const Query = v.object({ from: Moment, to: Moment })

/** What deleting a stretch of its log would take away. */
export default route(async (engine, event) => {
  const { segments, ...going } = await logDeletionOf(engine, slugOf(event), queryOf(event, Query))
  return { ...going, segments: segments.length, members: [...new Set(segments.map(({ member }) => member))] }
})
