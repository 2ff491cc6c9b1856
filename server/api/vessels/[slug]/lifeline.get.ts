import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { keptLifeline } from '../../../../engine/retention/views'

export default route(async (engine, event) => keptLifeline(engine, await vesselBySlug(engine, slugOf(event))))
