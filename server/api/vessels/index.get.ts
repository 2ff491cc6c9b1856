import { standings } from '../../../engine/catalog/standing'

export default route((engine) => standings(engine))
