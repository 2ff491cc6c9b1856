import { comingDays } from '../../engine/catalog/schedule-views'

const DAYS = 7

/** What all plans make in the next week, where, and whom that meets. */
export default route((engine) => comingDays(engine, DAYS))
