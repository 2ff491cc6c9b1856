import { isOver } from '../../catalog/runs'
import { clusterAccessOf } from '../../catalog/sources'
import type { EngineContext } from '../../context'
import type { Duties } from '../../jobs/duties'
import { ClusterClient } from '../../sources/kubernetes/client'
import { removeLeftOver } from '../../sources/kubernetes/temporary'
import type { RunContext } from '../context'

/** How often what is left in clusters is looked for. */
export const SWEPT_EVERY_MS = 30_000

/**
 * Written down before a run makes things in a cluster for a time: reader pods, claims, snapshots. Whoever made them says
 * at the end whether nothing of them is left; until then, somebody removes them when the run is over.
 */
export async function willLeave(run: RunContext, source: string): Promise<(nothing: boolean) => Promise<void>> {
  const undo = await run.willUndo({ kind: 'cluster', what: { source } })
  // What stays there for a point is the point's once that is made, and goes with the rest if it is not.
  return async (nothing) => {
    if (nothing && !run.keptAtSource) await run.undone(undo)
  }
}

/**
 * Removes from every cluster what runs that are over have left there, and nobody knows of: what is undone is undone when
 * a run ends, and a cluster may make something later all the same. One that does not answer is told where its discovery
 * tells it, and looked at again.
 */
export async function sweepClusters(engine: EngineContext & { duties: Duties }): Promise<void> {
  const sources = await engine.db.selectFrom('source').select(['id', 'name']).where('kind', '=', 'kubernetes').execute()
  for (const { id, name } of sources)
    if (await engine.duties.take(`sweep ${id}`, SWEPT_EVERY_MS * 0.9))
      await clusterAccessOf(engine, name)
        .then((access) => ClusterClient.with(access, (client) => removeLeftOver(client, (run) => isOver(engine, run))))
        .catch(() => undefined)
}
