import * as v from 'valibot'
import { findThings } from '../../engine/catalog/find'

const Query = v.object({ q: v.pipe(v.string(), v.maxLength(200)) })

export default route((engine, event) => findThings(engine, queryOf(event, Query).q))
