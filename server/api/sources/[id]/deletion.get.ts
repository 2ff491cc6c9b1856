import { sourceDeletion } from '../../../../engine/retention/source-deletion'

/** What forgetting this source would take away. */
export default route((engine, event) => sourceDeletion(engine, idOf(event)))
