import { grouped } from '../../core/grouped'
import { labelsIn, select } from '../../core/selection/rules'
import { parentOf, placeOf, upwards, type Thing, type ThingKind } from '../../core/things/thing'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { pointsHolding } from '../points/with-path'
import { goneInWords } from './loss-words'
import { restoreFrom, type GoneFrom, type Loss, type LossWay } from './loss'

type Found = Thing & { gone_at: Date | null; gone_after: Date | null; gone_meant_at: Date | null }

const CONTAINERS: readonly ThingKind[] = ['database', 'schema', 'namespace']
const LEAVES: readonly ThingKind[] = ['table', 'object', 'volume']

/**
 * What vessels would take and is no longer there, where no log told of it: place by place, since whoever drops a schema
 * loses one thing, and once, however many vessels hold it.
 *
 * @param isTold whether a loss that a log told of is about a thing
 */
export async function goneThings(engine: EngineContext, vessels: Vessel[], isTold: (path: string) => boolean): Promise<Loss[]> {
  const columns = ['path', 'kind', 'labels', 'facts', 'gone_at', 'gone_after', 'gone_meant_at'] as const
  const query = engine.db.selectFrom('thing').select(columns)
  const all: Found[] = await query.where('gone_at', 'is not', null).where('kind', 'in', LEAVES).execute()
  const gone = all.filter(({ path, gone_meant_at: meant }) => meant === null && !isTold(path))
  if (gone.length === 0) return []
  const containers: Found[] = await query.where('kind', 'in', CONTAINERS).execute()
  const labelsOf = labelsIn(containers)
  const lost = new Map(containers.filter(({ gone_at }) => gone_at !== null).map((container) => [container.path, container]))
  const losses = new Map<string, GoneFrom>()
  for (const vessel of vessels) {
    const taken = select(vessel.definition.rules, gone, labelsOf).taken as Found[]
    await addGone(engine, vessel, taken, lost, losses)
  }
  return [...losses.values()].map(lossOf)
}

async function addGone(
  engine: EngineContext,
  vessel: Vessel,
  taken: Found[],
  lost: Map<string, Found>,
  losses: Map<string, GoneFrom>,
): Promise<void> {
  if (taken.length === 0) return
  const placed = taken.map((thing) => ({
    thing,
    whole:
      upwards(thing.path)
        .flatMap((path) => lost.get(path) ?? [])
        .at(-1) ?? null,
  }))
  const holding = await pointsHolding(
    engine,
    vessel.id,
    placed.map(({ thing, whole }) => (whole ?? thing).path),
  )
  for (const { thing, whole } of placed) {
    const point = holding.get((whole ?? thing).path)
    if (!point) continue
    // Objects and volumes are in their namespace directly, however long their path.
    const place = whole?.path ?? (thing.kind === 'table' ? parentOf(thing.path)! : placeOf(thing.path))
    const since = (whole ?? thing).gone_at!
    const after = (whole ?? thing).gone_after
    const key = `${place} ${since.getTime()}`
    const loss = losses.get(key) ?? { place, whole: whole?.kind ?? null, paths: [], kinds: new Set(), at: since, after, points: [] }
    losses.set(key, loss)
    if (!loss.paths.includes(thing.path)) loss.paths.push(thing.path)
    loss.kinds.add(thing.kind)
    if (!loss.points.some((known) => known.point === point.id)) loss.points.push({ vessel, point: point.id, at: point.at })
  }
}

function lossOf(gone: GoneFrom): Loss {
  const { whole, paths, kinds, place, at, after, points } = gone
  const single = whole ? place : paths.length === 1 ? paths[0]! : null
  const ways = points.map(({ vessel, point, at: before }): LossWay => {
    const { slug, name } = vessel
    const without = 'what was changed since then'
    return {
      kind: 'point',
      vessel: { slug, name },
      ref: point,
      at: before,
      without,
      to: restoreFrom(vessel, point, single ? { pick: single } : { gone: place }),
    }
  })
  // Of one vessel the newest point that holds it is enough.
  const newest = [...grouped(ways, ({ vessel }) => vessel.slug).values()].map(
    (losses) => losses.sort((a, b) => b.at.getTime() - a.at.getTime())[0]!,
  )
  return {
    key: `gone ${at.getTime()} ${place}`,
    kind: 'gone',
    level: whole || [...kinds].some((kind) => kind !== 'object') ? 'error' : 'warning',
    what: goneInWords(gone),
    at,
    after,
    times: 1,
    by: null,
    statement: null,
    went: [],
    paths,
    ways: newest.sort((a, b) => b.at.getTime() - a.at.getTime()),
  }
}
