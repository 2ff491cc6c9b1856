import * as v from 'valibot'
import { compareTable } from '../../../../engine/compare/table'

const Query = v.object({ path: v.string() })
const ROWS = 400

export default route((engine, event) => compareTable(engine, idOf(event), queryOf(event, Query).path, ROWS))
