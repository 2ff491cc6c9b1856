import { lifelineOf } from '../../../../engine/catalog/lifeline'
import { vesselBySlug } from '../../../../engine/catalog/vessels'

export default route(async (engine, event) => lifelineOf(engine, (await vesselBySlug(engine, slugOf(event))).id))
