import type { EngineContext } from '../context'
import { isWithin } from '../../core/things/thing'
import { noRows, openPoint } from '../points/open'

// A thing that is gone is looked for in this many points at most.
const LOOK_BACK = 60
const CACHED_POINTS = 500
// The paths of a larger point are read again rather than kept.
const CACHED_PATHS = 20_000

// What a point holds never changes, so it is read once.
const cache = new Map<string, string[]>()

async function pathsIn(engine: EngineContext, point: string): Promise<string[]> {
  const known = cache.get(point)
  if (known) return known
  const { members } = await openPoint(engine, point, noRows)
  const paths = members.flatMap(({ manifest }) => [
    ...manifest.databases.flatMap(({ tables, others }) => [...tables, ...others].map(({ path }) => path)),
    ...(manifest.namespaces ?? []).flatMap(({ objects, volumes }) => [...objects, ...volumes].map(({ path }) => path)),
  ])
  if (paths.length <= CACHED_PATHS) cache.set(point, paths)
  if (cache.size > CACHED_POINTS) cache.delete(cache.keys().next().value!)
  return paths
}

/** The newest point of a vessel that holds a thing, or something in it; null when none of the newest ones does. */
export async function pointHolding(engine: EngineContext, vesselId: string, path: string): Promise<string | null> {
  const points = await engine.db
    .selectFrom('point')
    .select('id')
    .where('vessel_id', '=', vesselId)
    .where('kept_for', 'is', null)
    .orderBy('at', 'desc')
    .limit(LOOK_BACK)
    .execute()
  for (const { id } of points) {
    // A point that can't be opened is told of by the verification of its store.
    const paths = await pathsIn(engine, id).catch(() => [])
    if (paths.some((own) => isWithin(own, path))) return id
  }
  return null
}
