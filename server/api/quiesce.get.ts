import { quiesceView } from '../../engine/catalog/hold-views'

/** What steps of a vessel that is not saved yet may do here. */
export default route((engine) => quiesceView(engine, null))
