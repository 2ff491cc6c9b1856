import { storeViews } from '../../../engine/catalog/store-views'

export default route((engine) => storeViews(engine))
