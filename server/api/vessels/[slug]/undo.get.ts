import { vesselBySlug } from '../../../../engine/catalog/vessels'
import { planUndo } from '../../../../engine/log/undo'

/** What undoing one transaction would do, row by row. Changes nothing. */
export default route(async (engine, event) => planUndo(engine, await vesselBySlug(engine, slugOf(event)), queryOf(event, Transaction)))
