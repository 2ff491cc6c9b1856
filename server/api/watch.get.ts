import { standings } from '../../engine/catalog/standing'
import { listRuns } from '../../engine/catalog/run-views'
import { needsHand, unprotected } from '../../engine/watch/hands'
import { openLosses } from '../../engine/watch/losses'
import { returned } from '../../engine/watch/returns'

const DAY_MS = 86_400_000

/** All that the first page shows. */
export default route(async (engine) => {
  const now = engine.clock.now()
  const vessels = await standings(engine)
  const [losses, back, hands, free, runs] = await Promise.all([
    openLosses(engine),
    returned(engine),
    needsHand(engine, vessels),
    unprotected(engine),
    listRuns(engine, { since: new Date(now.getTime() - DAY_MS), limit: 500 }),
  ])
  return { now, vessels, losses, returned: back, hands, unprotected: free, runs }
})
