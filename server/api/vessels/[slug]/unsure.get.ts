import * as v from 'valibot'
import { readRef } from '../../../../core/chain/moment-ref'
import { unsureAt } from '../../../../engine/log/unsure'

const Query = v.object({
  ref: v.pipe(
    v.string(),
    v.check((text) => readRef(text) !== undefined, 'This is no moment.'),
  ),
})

/** What is not exactly as it was at a moment, or not known there. */
export default route((engine, event) => {
  const { ref } = queryOf(event, Query)
  return unsureAt(engine, ref, readRef(ref)!)
})
