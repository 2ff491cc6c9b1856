import { probeSource } from '../../../../engine/catalog/sources'

export default route((engine, event) => probeSource(engine, idOf(event)))
