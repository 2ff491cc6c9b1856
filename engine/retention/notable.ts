import { lackOf } from '../../core/content/missing'
import type { LifelinePoint } from '../catalog/lifeline'
import { everyVessel, type Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { keptOf, type Kept } from './keeping'

const DAY_MS = 86_400_000
/** What goes within so many days goes soon; what a person made stays long after so many. */
const SOON_MS = 7 * DAY_MS
const LONG_MS = 30 * DAY_MS
const SHOWN = 200

/** A point that somebody may want to look at before it goes, or because it stays. */
export interface NotablePoint {
  id: string
  vessel: string
  slug: string
  at: Date
  name: string | null
  /** Bytes that it added to its store when it was made. */
  stored: number
  /** When it goes; null where that has no date. */
  until: Date | null
  /** Why it is pinned; null where it is not. */
  pin: string | null
  isGood: boolean
}

/** Of each list as many as are shown, and how many there are in all with how much. */
export interface Notable {
  /** What goes soonest comes first. */
  soon: NotableList
  /** The newest first. */
  pinned: NotableList
  /** What a person made long ago, the largest first. */
  byHand: NotableList
}

export interface NotableList {
  points: NotablePoint[]
  count: number
  stored: number
}

/** What of all vessels goes soon, what is pinned, and what was kept by hand for long. */
export async function notablePoints(engine: EngineContext): Promise<Notable> {
  const now = engine.clock.now().getTime()
  const all: { point: NotablePoint; isByHand: boolean }[] = []
  for (const vessel of await everyVessel(engine)) {
    const kept = await keptOf(engine, vessel)
    const stored = new Map(kept.lanes.artifacts.map((artifact) => [artifact.id, artifact.stored]))
    for (const point of kept.lanes.points) all.push({ point: notable(vessel, kept, point, stored), isByHand: point.plan === null })
  }
  const points = all.map(({ point }) => point)
  return {
    soon: listed(
      points.filter(({ until }) => until !== null && until.getTime() - now < SOON_MS),
      (a, b) => a.until!.getTime() - b.until!.getTime(),
    ),
    pinned: listed(
      points.filter(({ pin }) => pin !== null),
      (a, b) => b.at.getTime() - a.at.getTime(),
    ),
    byHand: listed(
      all.flatMap(({ point, isByHand }) => (isByHand && now - point.at.getTime() > LONG_MS ? [point] : [])),
      (a, b) => b.stored - a.stored,
    ),
  }
}

function notable(
  { name: vessel, slug }: Vessel,
  { keeping, stays }: Kept,
  point: LifelinePoint,
  stored: Map<string, number>,
): NotablePoint {
  const kept = keeping.get(point.id)
  const until = kept && typeof kept.until === 'number' && Number.isFinite(kept.until) ? new Date(kept.until) : null
  return {
    id: point.id,
    vessel,
    slug,
    at: point.at,
    name: point.name ?? point.plan?.name ?? null,
    stored: point.artifacts.reduce((sum, id) => sum + (stored.get(id) ?? 0), 0),
    // What nothing keeps goes with the next prune.
    until: stays.points.has(point.id) ? until : new Date(0),
    pin: point.pin?.reason ?? null,
    isGood: lackOf(point) === null,
  }
}

function listed(points: NotablePoint[], order: (a: NotablePoint, b: NotablePoint) => number): NotableList {
  return { points: points.sort(order).slice(0, SHOWN), count: points.length, stored: points.reduce((sum, point) => sum + point.stored, 0) }
}
