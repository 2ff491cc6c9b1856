import { vesselDeparture } from '../../../../engine/retention/vessel-deletion'

/** What becomes of its points when it is deleted. */
export default route((engine, event) => vesselDeparture(engine, slugOf(event)))
