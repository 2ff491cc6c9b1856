import { VesselError } from '../../core/errors'
import type { FileKind } from './index'
import type { Store } from './store'

/**
 * Paths of files of a store that are in no table and were never announced. The catalog came back from a copy, or somebody
 * put them there; in either case they may be all that is left of something.
 */
export async function strangersIn(store: Store, kind: FileKind): Promise<string[]> {
  const list = async () => (await store.backend.list(kind)).map(({ path }) => path)
  const listed = await list()
  const known = await store.index.knownPaths(kind)
  const unknown = listed.filter((path) => !known.has(path))
  if (unknown.length === 0) return []
  // What failed meanwhile was listed, and is gone with what was known of it.
  const there = new Set(await list())
  return unknown.filter((path) => there.has(path))
}

/**
 * A catalog that is older than its store takes for unneeded what was needed later: then nothing goes.
 *
 * @throws VesselError `store_ahead`
 */
export async function refuseAhead(store: Store): Promise<void> {
  if (!(await isAhead(store))) return
  throw new VesselError('store_ahead', {
    what: `The store ${store.name} holds points or log of which this catalog knows nothing: the catalog is older than the store.`,
    touched: 'Nothing in the store was removed.',
    next: 'Restore a newer copy of the catalog. Until then nothing of the store is let go, and what interrupted runs leave there stays.',
  })
}

/** Whether a store holds points or log of which its catalog knows nothing, so that this one is older than it. */
export const isAhead = async (store: Store): Promise<boolean> =>
  (await strangersIn(store, 'points')).length > 0 || (await strangersIn(store, 'segments')).length > 0
