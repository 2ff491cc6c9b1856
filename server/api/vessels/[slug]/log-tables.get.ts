import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { loggedTables } from '../../../../engine/log/tables'

export default route(async (engine, event) => loggedTables(engine, await vesselBySlug(engine, slugOf(event))))
