import { deletionOf } from '../../../../engine/retention/deletion'

/** What deleting this point would take away. */
export default route(async (engine, event) => deletionOf(engine, idOf(event)))
