import { scheduleState } from '../../../../engine/catalog/schedule-views'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

/** How far the plan of a vessel has come. */
export default route(async (engine, event) => scheduleState(engine, await vesselBySlug(engine, slugOf(event))))
