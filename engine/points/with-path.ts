import type { EngineContext } from '../context'
import { upwards } from '../../core/things/thing'
import { noRows, openPoint } from './open'

// A thing that is gone is looked for in this many points at most.
const LOOK_BACK = 60
/** How many paths, over all points, are remembered with the points that hold them. */
const KEPT_PATHS = 500_000

/** What points hold never changes, so it is read once; what was asked for last stays longest. */
class Held {
  private readonly sets = new Map<string, ReadonlySet<string>>()
  private size = 0;

  async in(engine: EngineContext, point: string): Promise<ReadonlySet<string>> {
    const held = this.sets.get(point) ?? (await pathsIn(engine, point))
    this.forget(point)
    if (held.size > KEPT_PATHS) return held
    this.sets.set(point, held)
    this.size += held.size
    while (this.size > KEPT_PATHS) this.forget(this.sets.keys().next().value!)
    return held
  }

  private forget(point: string): void {
    this.size -= this.sets.get(point)?.size ?? 0
    this.sets.delete(point)
  }
}
const kept = new Held()

/** Everything in a point, and all that it lies in. */
async function pathsIn(engine: EngineContext, point: string): Promise<ReadonlySet<string>> {
  const { members } = await openPoint(engine, point, noRows)
  const paths = members.flatMap(({ manifest }) => [
    ...manifest.databases.flatMap(({ tables, others }) => [...tables, ...others]),
    ...(manifest.namespaces ?? []).flatMap(({ objects, volumes }) => [...objects, ...volumes]),
  ])
  return new Set(paths.flatMap(({ path }) => upwards(path)))
}

/**
 * By path: the newest point of a vessel that holds a thing, or something in it; none where none of the newest ones does.
 *
 * @param until points that are younger hold what became of it
 */
export async function pointsHolding(
  engine: EngineContext,
  vesselId: string,
  paths: Iterable<string>,
  until?: Date,
): Promise<Map<string, { id: string; at: Date }>> {
  const unknown = new Set(paths)
  const found = new Map<string, { id: string; at: Date }>()
  let points = engine.db.selectFrom('point').select(['id', 'at']).where('vessel_id', '=', vesselId).where('kept_for', 'is', null)
  if (until) points = points.where('at', '<', until)
  for (const { id, at } of await points.orderBy('at', 'desc').limit(LOOK_BACK).execute()) {
    if (unknown.size === 0) break
    // A point that can't be opened is told of by the verification of its store.
    const held = await kept.in(engine, id).catch(() => new Set<string>())
    for (const path of unknown) {
      if (!held.has(path)) continue
      found.set(path, { id, at })
      unknown.delete(path)
    }
  }
  return found
}

/** The newest point of a vessel that holds one thing, or something in it; null when none of the newest ones does. */
export const pointHolding = async (engine: EngineContext, vesselId: string, path: string): Promise<string | null> =>
  (await pointsHolding(engine, vesselId, [path])).get(path)?.id ?? null
