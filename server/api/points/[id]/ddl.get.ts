import * as v from 'valibot'
import { ddlAt } from '../../../../engine/look/ddl'

const Query = v.object({ path: v.string() })

/** How a thing of a point is made, in the server's own words. */
export default route((engine, event) => ddlAt(engine, pointOf(event), queryOf(event, Query).path))
