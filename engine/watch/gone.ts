import { labelsIn, select } from '../../core/selection/rules'
import { lastName, namesOf, parentOf, placeOf, upwards, type Thing, type ThingKind } from '../../core/things/thing'
import { plural } from '../../core/time/words'
import type { VesselStanding } from '../catalog/standing'
import { allVessels, type Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { pointsHolding } from '../runs/holding'
import type { Hand } from './hands'

type Found = Thing & { gone_at: Date | null }

/** Things that went from one place, all of them in one point; the place itself, where it went with all that was in it. */
interface Loss {
  place: string
  /** The kind of the place when it is gone itself. */
  whole: ThingKind | null
  point: string
  things: Found[]
  since: Date
}

const CONTAINERS: readonly ThingKind[] = ['database', 'schema', 'namespace']
const LEAVES: readonly ThingKind[] = ['table', 'object', 'volume']
const NAMED = 3

/** What vessels would take and is no longer there, place by place: whoever drops a schema is told of one loss, not of each table. */
export async function goneHands(engine: EngineContext, standings: VesselStanding[]): Promise<Hand[]> {
  const columns = ['path', 'kind', 'labels', 'facts', 'gone_at'] as const
  const query = engine.db.selectFrom('thing').select(columns)
  const gone: Found[] = await query.where('gone_at', 'is not', null).where('kind', 'in', LEAVES).execute()
  if (gone.length === 0) return []
  const containers: Found[] = await query.where('kind', 'in', CONTAINERS).execute()
  const labelsOf = labelsIn(containers)
  const lost = new Map(containers.filter(({ gone_at }) => gone_at !== null).map((one) => [one.path, one]))
  const hands: Hand[] = []
  for (const vessel of await allVessels(engine)) {
    if (!standings.find(({ id }) => id === vessel.id)?.newest) continue
    const taken = select(vessel.definition.rules, gone, labelsOf).taken as Found[]
    for (const loss of await lossesOf(engine, vessel, taken, lost)) hands.push(handOf(vessel, loss))
  }
  return hands
}

async function lossesOf(engine: EngineContext, vessel: Vessel, taken: Found[], lost: Map<string, Found>): Promise<Loss[]> {
  if (taken.length === 0) return []
  const placed = taken.map((thing) => {
    const whole = upwards(thing.path).flatMap((path) => lost.get(path) ?? [])
    return { thing, whole: whole.at(-1) ?? null }
  })
  const points = await pointsHolding(
    engine,
    vessel.id,
    placed.map(({ thing, whole }) => (whole ?? thing).path),
  )
  const losses = new Map<string, Loss>()
  for (const { thing, whole } of placed) {
    const point = points.get((whole ?? thing).path)
    if (!point) continue
    // Objects and volumes are in their namespace directly, however long their path.
    const place = whole?.path ?? (thing.kind === 'table' ? parentOf(thing.path)! : placeOf(thing.path))
    const since = (whole ?? thing).gone_at!
    const loss = losses.get(`${place} ${point}`) ?? { place, whole: whole?.kind ?? null, point, things: [], since }
    losses.set(`${place} ${point}`, loss)
    loss.things.push(thing)
    if (since > loss.since) loss.since = since
  }
  return [...losses.values()]
}

function handOf(vessel: Vessel, loss: Loss): Hand {
  const { whole, things, point, since, place } = loss
  const one = whole ? place : things.length === 1 ? things[0]!.path : null
  return {
    level: whole || things.some(({ kind }) => kind !== 'object') ? 'iron' : 'ochre',
    what: inWords(vessel.name, loss),
    since,
    action: one ? 'Bring it back…' : 'Bring them back…',
    to: `/vessels/${vessel.slug}/bring-back?point=${point}&${one ? 'pick' : 'gone'}=${encodeURIComponent(one ?? place)}`,
  }
}

function inWords(vessel: string, { place, whole, things }: Loss): string {
  const [source, ...names] = namesOf(place)
  if (whole) {
    const above = [source, ...names.slice(0, -1)].join(' / ')
    return `The ${whole} ${names.at(-1)} is gone from ${above}.`
  }
  const [first] = things
  if (first!.kind === 'table' && things.length === 1) return `${names[1]}.${lastName(first!.path)} is gone from ${source} / ${names[0]}.`
  const named = things.slice(0, NAMED).map(({ path }) => lastName(path))
  const list = `${named.join(', ')}${things.length > NAMED ? '…' : ''}`
  const verb = things.length === 1 ? 'is' : 'are'
  return first!.kind === 'table'
    ? `${plural(things.length, 'table')} of ${names[1]} ${verb} gone from ${source} / ${names[0]}: ${list}.`
    : `${plural(things.length, 'thing')} of ${vessel} ${verb} gone from ${source} / ${names[0]}: ${list}.`
}
