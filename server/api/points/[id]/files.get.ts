import * as v from 'valibot'
import { folderOf } from '../../../../engine/look/cluster'
import { noRows, openPoint } from '../../../../engine/points/open'

const Query = v.object({ path: v.string(), folder: v.optional(v.string(), '') })

/** What lies in a folder of a volume. */
export default route(async (engine, event) => {
  const { path, folder } = queryOf(event, Query)
  return folderOf(await openPoint(engine, pointOf(event), noRows), path, folder)
})
