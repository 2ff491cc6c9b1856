import { VesselError } from '../../core/errors'
import { pathOf } from '../../core/things/thing'
import { wishOf } from '../../core/restore/wish'
import type { EngineContext } from '../context'
import type { DatabaseManifest } from '../../core/content/manifest'
import type { RestoreParams, RestorePart } from './restore'
import { noRows, openPoint } from '../points/open'
import { madeBy } from './unmake'

/**
 * The restore that takes a restore back: everything that it kept before overwriting goes to where it stood, and what it
 * made in a database where nothing stood goes again. What it made in a namespace stays.
 * @throws VesselError `nothing_kept` when nothing was overwritten, or when its time to be kept is over.
 */
export async function takeBack(engine: EngineContext, runId: string): Promise<RestoreParams> {
  const kept = await engine.db.selectFrom('point').select('id').where('kept_for', '=', runId).orderBy('created_at').execute()
  const databases: { ids: string[]; picks: string[] } = { ids: [], picks: [] }
  const namespaces: RestorePart[] = []
  for (const { id } of kept) {
    const { members } = await openPoint(engine, id, noRows)
    const ofNamespaces = members.flatMap(({ manifest }) =>
      (manifest.namespaces ?? []).flatMap(({ objects, volumes }) =>
        [...objects.filter(({ wide }) => !wide), ...volumes].map(({ path }) => path),
      ),
    )
    // What was kept last stands upon what was kept before it.
    if (ofNamespaces.length > 0) namespaces.unshift({ point: id, wish: wishOf({ picks: ofNamespaces, collide: 'replace' }) })
    if (members.every(({ manifest }) => manifest.databases.length === 0)) continue
    databases.ids.push(id)
    databases.picks.push(...members.flatMap(({ member, manifest }) => manifest.databases.flatMap((database) => picksOf(member, database))))
  }
  const [point, ...together] = databases.ids
  const parts: RestorePart[] = point
    ? [{ point, together, wish: wishOf({ picks: databases.picks, collide: 'replace' }) }, ...namespaces]
    : namespaces
  const [first, ...more] = parts
  if (first) return { ...first, more, unmakes: await madeBy(engine, runId), reason: 'Takes an earlier restore back' }
  throw new VesselError('nothing_kept', {
    what: 'Nothing is kept of what this restore overwrote: it overwrote nothing, or the time for which it was to be kept is over.',
    touched: 'Nothing was changed.',
    next: 'Look at the lifeline for a point from before it.',
    status: 409,
  })
}

/** Everything that a point kept of a database; with what belongs to the database itself, all that it holds. */
function picksOf(member: string, { name, tables, others, largeObjects, properties }: DatabaseManifest): string[] {
  if (properties) return [pathOf(member, name)]
  const large = largeObjects ? [pathOf(member, name, 'large objects')] : []
  return [...tables.map(({ path }) => path), ...others.map(({ path }) => path), ...large]
}

/** Lets go of points that were kept before an overwriting and whose time is over. Pinned ones stay. */
export async function expireKept(engine: EngineContext): Promise<void> {
  const due = await engine.db
    .selectFrom('point')
    .select(['id', 'run_id'])
    .where('kept_for', 'is not', null)
    .where('pinned', '=', false)
    .where('expires_at', '<', engine.clock.now())
    .execute()
  for (const { id, run_id: run } of due) {
    const { store } = await openPoint(engine, id)
    await engine.db.transaction().execute(async (tx) => {
      const artifacts = await tx.deleteFrom('point_artifact').where('point_id', '=', id).returning('artifact_id').execute()
      for (const { artifact_id: artifact } of artifacts) await tx.deleteFrom('artifact').where('id', '=', artifact).execute()
      await tx.deleteFrom('point').where('id', '=', id).execute()
      await store.pointLeaves(tx, id, run)
    })
    await store.removePoint(id)
  }
}
