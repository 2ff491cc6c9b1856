import { sourceViews } from '../../../engine/catalog/thing-views'

export default route((engine) => sourceViews(engine))
