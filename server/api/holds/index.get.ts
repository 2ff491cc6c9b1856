import { openHolds } from '../../../engine/catalog/hold-views'

/** Everything that is held now, on any page. */
export default route((engine) => openHolds(engine))
