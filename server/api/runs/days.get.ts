import { runDays } from '../../../engine/catalog/run-days'

/** How runs ended, day by day. */
export default route(async (engine, event) => runDays(engine, queryOf(event, CountedRunsQuery)))
