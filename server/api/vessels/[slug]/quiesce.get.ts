import { quiesceView } from '../../../../engine/catalog/hold-views'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** What holding this vessel took the last time. */
export default route(async (engine, event) => quiesceView(engine, (await vesselBySlug(engine, slugOf(event))).id))
