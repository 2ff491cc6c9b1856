import { goneVessels } from '../../engine/retention/vessel-deletion'

/** Vessels that were deleted, as long as any of their points stays. */
export default route((engine) => goneVessels(engine))
