import * as v from 'valibot'
import { readRef } from '../../../../core/chain/moment-ref'
import { momentView } from '../../../../engine/log/moment-view'

const Query = v.object({
  ref: v.pipe(
    v.string(),
    v.check((text) => readRef(text) !== undefined, 'This is no moment.'),
  ),
})

/** The chain that leads to a moment, member by member. */
export default route((engine, event) => momentView(engine, readRef(queryOf(event, Query).ref)!))
