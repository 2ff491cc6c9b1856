import { runFigures } from '../../../engine/catalog/run-days'

/** What runs took and moved, day by day. */
export default route(async (engine, event) => runFigures(engine, queryOf(event, CountedRunsQuery)))
