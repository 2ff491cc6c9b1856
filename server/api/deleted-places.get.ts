import { deletedPlaces } from '../../engine/retention/deleted-places'

/** Sources and stores that were deleted, the newest first. */
export default route((engine) => deletedPlaces(engine.db))
