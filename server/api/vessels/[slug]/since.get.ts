import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { changedSinceBackup } from '../../../../engine/points/since'

/** What changed in what a vessel takes since its newest backup; null when it has none yet. */
export default route(async (engine, event) => changedSinceBackup(engine, await vesselBySlug(engine, slugOf(event))))
