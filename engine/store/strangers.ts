import { sql } from 'kysely'
import type { CatalogDb } from '../catalog/connect'
import { packPath } from './pack'
import { pointPath, segmentPath, type Store } from './store'

/** What lies in a store and the catalog knows nothing of, by paths. */
export interface Strangers {
  packs: string[]
  points: string[]
  segments: string[]
}

/**
 * Looks for files that are in no table and were never announced. The catalog came back from a copy, or somebody put
 * them there; in either case they may be all that is left of something.
 */
export async function strangersIn(db: CatalogDb, store: Store): Promise<Strangers> {
  const found = await Promise.all(['packs', 'points', 'segments'].map((folder) => store.backend.list(folder)))
  const known = await knownPaths(db, store.id)
  const [packs, points, segments] = await Promise.all(
    found.map(async (files) => {
      const unknown = files.map(({ path }) => path).filter((path) => !known.has(path))
      if (unknown.length === 0) return []
      // What failed meanwhile was listed, and is gone with what was known of it.
      const there = new Set((await store.backend.list(unknown[0]!.split('/')[0]!)).map(({ path }) => path))
      return unknown.filter((path) => there.has(path))
    }),
  )
  return { packs: packs!, points: points!, segments: segments! }
}

/** All at one moment: what is announced becomes known in the transaction that takes the announcement back. */
async function knownPaths(db: CatalogDb, storeId: string): Promise<Set<string>> {
  const { rows } = await sql<{ kind: 'pack' | 'point' | 'segment' | 'path'; name: string }>`
    select 'pack' as kind, id::text as name from pack where store_id = ${storeId}
    union all select 'point', id::text from point where store_id = ${storeId}
    union all select 'segment', id::text from artifact where store_id = ${storeId} and kind = 'log'
    union all select 'path', path from announced_file where store_id = ${storeId}`.execute(db)
  const paths = { pack: packPath, point: pointPath, segment: segmentPath, path: (path: string) => path }
  return new Set(rows.map(({ kind, name }) => paths[kind](name)))
}

/** Whether a store holds points or log of which its catalog knows nothing, so that this one is older than it. */
export async function isAhead(db: CatalogDb, store: Store): Promise<boolean> {
  const { points, segments } = await strangersIn(db, store)
  return points.length + segments.length > 0
}
