import * as v from 'valibot'
import { checkPlace } from '../../../engine/catalog/stores'

const Body = v.strictObject({ path: v.pipe(v.string(), v.maxLength(1000)) })

export default route(async (_, event) => checkPlace((await bodyOf(event, Body)).path))
