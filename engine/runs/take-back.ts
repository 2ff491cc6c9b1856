import { VesselError } from '../../core/errors'
import { isLargeObjects, largeObjectsPath, namesOf, pathOf } from '../../core/things/thing'
import { placeOf, wishOf } from '../../core/restore/wish'
import { OVERWRITES } from '../catalog/run-views'
import type { EngineContext } from '../context'
import type { DatabaseManifest } from '../../core/content/manifest'
import { openPart, type RestoreParams, type RestorePart } from './restore'
import { noRows, openPoint, type OpenPoint } from '../points/open'
import { Departure } from '../retention/departure'
import { forgetPoints } from '../retention/lapse'
import { madeBy } from './unmake'

/**
 * The restore that takes a restore back: everything that it kept before overwriting goes to where it stood, and what it
 * made in a database where nothing stood goes again. What it made in a namespace stays.
 * @throws VesselError `nothing_kept` when it made and overwrote nothing, or when the time to keep that is over.
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
  const [first, ...more] = parts.length > 0 ? parts : await whereItOnlyMade(engine, runId)
  const unmakes = await madeBy(engine, runId)
  const unlinks = first ? await addedBy(engine, runId, databases.ids) : {}
  if (first && (parts.length > 0 || unmakes.length + Object.keys(unlinks).length > 0))
    return { ...first, more, unmakes, unlinks, reason: 'Takes an earlier restore back' }
  throw new VesselError('nothing_kept', {
    what: 'There is nothing to take back: this restore did nothing that could be, or the time for which what it overwrote was to be kept is over.',
    touched: 'Nothing was changed.',
    next: 'Look at the lifeline for a point from before it.',
    status: 409,
  })
}

/** The databases of a restore that overwrote nothing, so that nothing had to be kept: what it made there goes again. */
async function whereItOnlyMade(engine: EngineContext, runId: string): Promise<RestorePart[]> {
  const overwrote = await engine.db
    .selectFrom('receipt')
    .select('ordinal')
    .where('run_id', '=', runId)
    .where('outcome', 'in', OVERWRITES)
    .limit(1)
    .executeTakeFirst()
  if (overwrote) return []
  const parts = await partsOf(engine, runId)
  const opened = await Promise.all(parts.map((part) => openPart(engine, part)))
  const ofDatabases = parts.filter((_, i) => opened[i]!.members.some(({ manifest }) => manifest.databases.length > 0))
  return ofDatabases.map(({ wish, ...part }) => ({ ...part, wish: wishOf({ picks: [], into: wishOf(wish).into }) }))
}

/** What a restore was asked for. */
async function partsOf(engine: EngineContext, runId: string): Promise<RestorePart[]> {
  const { params } = await engine.db.selectFrom('run').select('params').where('id', '=', runId).executeTakeFirstOrThrow()
  const { point, together, wish, more = [] } = params as unknown as RestoreParams
  return [{ point, wish, ...(together ? { together } : {}) }, ...more]
}

/**
 * Numbers of large objects that a restore put where none was, by the path of the database that has them: those of its
 * point of which it kept nothing. Where it only added what was missing, which those were is not known any more.
 */
async function addedBy(engine: EngineContext, runId: string, kept: string[]): Promise<Record<string, number[]>> {
  const lines = await engine.db
    .selectFrom('receipt')
    .select(['path', 'verb'])
    .where('run_id', '=', runId)
    .where('verb', 'in', ['make', 'replace'])
    .where('outcome', 'in', ['made', 'replaced'])
    .execute()
  const restored = new Map(lines.filter(({ path }) => isLargeObjects(path)).map(({ path, verb }) => [path, verb]))
  const added: Record<string, number[]> = {}
  if (restored.size === 0) return added
  const overwritten = new Map<string, Set<number>>()
  for (const id of kept)
    for (const { place, objects } of largeObjectsIn(await openPoint(engine, id, noRows)))
      overwritten.set(place, new Set([...(overwritten.get(place) ?? []), ...objects]))
  for (const part of await partsOf(engine, runId))
    for (const { path, place, objects } of largeObjectsIn(await openPart(engine, part))) {
      const [source, database] = namesOf(place)
      const to = placeOf(wishOf(part.wish).into, source!, database!, database!)
      const target = pathOf(to.source, to.database)
      // Of what it replaced, those that stood there are known only as long as they are kept.
      const isKnown = restored.get(path) === 'make' || (restored.get(path) === 'replace' && overwritten.has(target))
      if (isKnown) added[target] = objects.filter((oid) => !overwritten.get(target)?.has(oid))
    }
  return added
}

const largeObjectsIn = ({ members }: Pick<OpenPoint, 'members'>) =>
  members.flatMap(({ manifest: { member, databases } }) =>
    databases.flatMap(({ name, largeObjects }) =>
      largeObjects ? [{ path: largeObjects.path, place: pathOf(member, name), objects: largeObjects.objects.map(({ oid }) => oid) }] : [],
    ),
  )

/** Everything that a point kept of a database; with what belongs to the database itself, all that it holds. */
function picksOf(member: string, { name, tables, others, largeObjects, properties }: DatabaseManifest): string[] {
  if (properties) return [pathOf(member, name)]
  const large = largeObjects ? [largeObjectsPath(member, name)] : []
  return [...tables.map(({ path }) => path), ...others.map(({ path }) => path), ...large]
}

/** Lets go of points that were kept before an overwriting and whose time is over. Pinned ones stay. */
export async function expireKept(engine: EngineContext): Promise<void> {
  const due = await engine.db
    .selectFrom('point')
    .select(['id', 'run_id'])
    .where('kept_for', 'is not', null)
    .where('pin', 'is', null)
    .where('expires_at', '<', engine.clock.now())
    .execute()
  for (const { id, run_id: run } of due) {
    const departure = new Departure(engine, run)
    const gone = { run, by: 'retention', why: 'its term is over', at: engine.clock.now() }
    await engine.db.transaction().execute((tx) => forgetPoints(tx, departure, [id], gone))
    await departure.finish()
  }
}
