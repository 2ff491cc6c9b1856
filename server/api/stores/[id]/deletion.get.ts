import { storeDeletion } from '../../../../engine/retention/store-deletion'

/** What deleting this store would take away. */
export default route((engine, event) => storeDeletion(engine, idOf(event)))
