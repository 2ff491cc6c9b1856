import * as v from 'valibot'
import { wholeRow } from '../../../../engine/look/rows'

const Query = v.object({ path: v.string(), at: Place })

/** One row with its whole values. */
export default route((engine, event) => {
  const { path, at } = queryOf(event, Query)
  return wholeRow(engine, pointOf(event), path, at)
})
