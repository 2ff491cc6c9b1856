import * as v from 'valibot'
import { readRef } from '../../../../core/chain/instant-ref'
import { instantView } from '../../../../engine/log/instant-view'

const Query = v.object({
  ref: v.pipe(
    v.string(),
    v.check((text) => readRef(text) !== undefined, 'This is no moment.'),
  ),
})

/** The chain that leads to an instant, member by member. */
export default route((engine, event) => instantView(engine, readRef(queryOf(event, Query).ref)!))
