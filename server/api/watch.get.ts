import { standings } from '../../engine/catalog/standing'
import { listRuns } from '../../engine/catalog/run-views'
import { needsHand, unclaimed } from '../../engine/watch/hands'

const DAY_MS = 86_400_000

/** All that the first page shows. */
export default route(async (engine) => {
  const now = engine.clock.now()
  const vessels = await standings(engine)
  const [hands, free, runs] = await Promise.all([
    needsHand(engine, vessels),
    unclaimed(engine),
    listRuns(engine, { since: new Date(now.getTime() - DAY_MS), limit: 500 }),
  ])
  return { now, vessels, hands, unclaimed: free, runs }
})
