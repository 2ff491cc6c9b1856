import * as v from 'valibot'
import { objectYaml } from '../../../../engine/look/cluster'
import { noRows, openPoint } from '../../../../engine/points/open'

const Query = v.object({ path: v.string() })

/** An object of a cluster as it was, as YAML. */
export default route(async (engine, event) => ({
  yaml: await objectYaml(await openPoint(engine, pointOf(event), noRows), queryOf(event, Query).path),
}))
