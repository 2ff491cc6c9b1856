import { pauseOfEverything } from '../../engine/catalog/pauses'
import { standings } from '../../engine/catalog/standing'
import { listRuns } from '../../engine/catalog/run-views'
import { comingDays } from '../../engine/catalog/schedule-views'
import { attentionNeeded, unprotected } from '../../engine/watch/attention'
import { openLosses } from '../../engine/watch/losses'
import { returned } from '../../engine/watch/returns'

const DAY_MS = 86_400_000

/** All that the first page shows. */
export default route(async (engine) => {
  const now = engine.clock.now()
  const vessels = await standings(engine)
  const [losses, back, attention, free, runs, coming, pause] = await Promise.all([
    openLosses(engine),
    returned(engine),
    attentionNeeded(engine, vessels),
    unprotected(engine),
    listRuns(engine, { since: new Date(now.getTime() - DAY_MS), limit: 500 }),
    comingDays(engine),
    pauseOfEverything(engine),
  ])
  return { now, vessels, losses, returned: back, attention, unprotected: free, runs, coming, pause }
})
