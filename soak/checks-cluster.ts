import type { Harbour } from './harbour'
import { pause } from './application'
import type { World } from './world'

const REMOVED_WITHIN_MS = 90_000

/** Every point of the cluster, restored for real beside what goes on there and compared with it; and nothing is left. */
export async function compareCluster(world: World, harbour: Harbour): Promise<string[]> {
  const { engine } = world
  const points = await engine.db
    .selectFrom('point')
    .innerJoin('run', 'run.id', 'point.run_id')
    .select(['point.id', 'point.missing', 'run.started_at', 'run.finished_at'])
    .where('point.vessel_id', '=', harbour.vessel.id)
    .where('point.kept_for', 'is', null)
    .execute()
  console.log(`${points.length} points of the cluster are restored`)
  const wrong: string[] = []
  for (const [i, { id, missing, started_at: from, finished_at: to }] of points.entries()) {
    const into = `final-${i}`
    // What is in one place only is read into the store before it can come back.
    if (missing.some(({ onlyAt }) => onlyAt !== undefined)) {
      const fetch = await world.over(
        await engine.startRun({ kind: 'fetch', vessel: harbour.vessel, startedBy: 'the soak', params: { point: id } }),
      )
      if (fetch.state !== 'done') wrong.push(`what the point ${id} of the cluster has in one place only: ${JSON.stringify(fetch.error)}`)
    }
    const params = { point: id, wish: harbour.wish(into), reason: 'a soak' }
    const run = await world.over(await engine.startRun({ kind: 'restore', vessel: harbour.vessel, startedBy: 'the soak', params }))
    const trouble =
      run.state === 'done' || run.state === 'warned'
        ? await harbour.wrongIn(into, from!, to ?? new Date())
        : `its restore ended as ${run.state}: ${JSON.stringify(run.error)}`
    if (trouble) wrong.push(`the point ${id} of the cluster: ${trouble}`)
    // One that failed may have made no namespace.
    await harbour.remove(into).catch((error: unknown) => {
      if (!trouble) throw error
    })
  }
  // What interrupted runs made for a time is removed by workers, who come round to it.
  let left: string[] = []
  for (const end = Date.now() + REMOVED_WITHIN_MS; Date.now() < end; await pause(1000)) {
    left = await harbour.left()
    if (left.length === 0) break
  }
  return [...wrong, ...left]
}
