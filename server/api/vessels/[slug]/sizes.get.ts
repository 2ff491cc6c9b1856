import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { measuredSizes } from '../../../../engine/retention/measured'

/** What the backups of this vessel have taken so far, by which a plan is simulated. */
export default route(async (engine, event) => measuredSizes(engine, (await vesselBySlug(engine, slugOf(event))).id))
