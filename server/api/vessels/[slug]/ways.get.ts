import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { waysOfBackup } from '../../../../engine/runs/ways'

/** Whether each way of backup could begin now. */
export default route(async (engine, event) => waysOfBackup(engine, await vesselBySlug(engine, slugOf(event))))
