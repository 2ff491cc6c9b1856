import { estateSources } from '../../../engine/catalog/estate'

export default route((engine) => estateSources(engine))
