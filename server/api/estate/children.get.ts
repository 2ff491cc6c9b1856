import * as v from 'valibot'
import { estateChildren } from '../../../engine/catalog/estate'

const Query = v.object({ path: v.optional(v.string()) })

export default route((engine, event) => estateChildren(engine, queryOf(event, Query).path ?? null))
