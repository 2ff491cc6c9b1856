import { runDetail } from '../../../../engine/catalog/run-views'

export default route((engine, event) => runDetail(engine, idOf(event)))
