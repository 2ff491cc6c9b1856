import * as v from 'valibot'
import { pointContents } from '../../../../engine/compare/contents'

const Query = v.object({ now: v.optional(v.picklist(['0', '1']), '1') })

/** Everything in a point; with `now=0` without asking its sources what is there now. */
export default route((engine, event) => pointContents(engine, pointOf(event), queryOf(event, Query).now === '1'))
