import { notablePoints } from '../../../engine/retention/notable'

/** What goes soon, what is pinned, and what was kept by hand for long. */
export default route((engine) => notablePoints(engine))
