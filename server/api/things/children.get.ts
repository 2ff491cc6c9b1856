import * as v from 'valibot'
import { thingsUnder } from '../../../engine/catalog/thing-views'

const Query = v.object({ path: v.optional(v.string()) })

export default route((engine, event) => thingsUnder(engine, queryOf(event, Query).path ?? null))
