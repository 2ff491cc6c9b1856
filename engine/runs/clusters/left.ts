import type { RunContext } from '../context'

/**
 * Written down before a run makes things in a cluster for a time: reader pods, claims, snapshots. Whoever made them says
 * at the end whether nothing of them is left; until then, somebody removes them when the run is over.
 */
export async function willLeave(run: RunContext, source: string): Promise<(nothing: boolean) => Promise<void>> {
  const undo = await run.willUndo({ kind: 'cluster', what: { source } })
  // What stays there for a point is the point's once that is made, and goes with the rest if it is not.
  return async (nothing) => {
    if (nothing && !run.leftAtSource) await run.undone(undo)
  }
}
