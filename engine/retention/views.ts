import { keptByInWords, type Keeping } from '../../core/plan/keep'
import { lifelineOf, type LifelineData } from '../catalog/lifeline'
import { comingRuns, type NextPlanned } from '../catalog/schedule-views'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { keptOf } from './keeping'

/** How long a point stays, and why. */
export interface PointKeeping {
  why: string
  /** Null where there is no date: it has no end, or nobody knows when newer points come. */
  until: Date | null
}

/** A point that went. */
export interface GonePoint {
  id: string
  at: Date
  name: string | null
  goneAt: Date
  why: string
  by: string
}

/** What a lifeline shows, with how long each point stays. Those without an entry go with the next prune. */
export interface KeptLifeline extends LifelineData {
  keeping: Record<string, PointKeeping>
  /** The newest that went. */
  gone: GonePoint[]
  /** What the plan makes next. */
  coming: NextPlanned[]
}

const GONE_SHOWN = 2000

const DAY_MS = 86_400_000
const COMING = { perLine: 60, forMs: 31 * DAY_MS }

export async function keptLifeline(engine: EngineContext, vessel: Vessel): Promise<KeptLifeline> {
  const { keeping, lanes } = await keptOf(engine, vessel)
  const [lifeline, gone, coming] = await Promise.all([
    lifelineOf(engine, vessel.id, lanes),
    gonePoints(engine, vessel.id),
    comingRuns(engine, vessel, { perLine: COMING.perLine, until: engine.clock.now().getTime() + COMING.forMs }),
  ])
  const viewOf = (kept: Keeping): PointKeeping => ({
    why: keptByInWords(kept),
    until: typeof kept.until === 'number' && Number.isFinite(kept.until) ? new Date(kept.until) : null,
  })
  return { ...lifeline, keeping: Object.fromEntries([...keeping].map(([id, kept]) => [id, viewOf(kept)])), gone, coming }
}

async function gonePoints(engine: EngineContext, vesselId: string): Promise<GonePoint[]> {
  return engine.db
    .selectFrom('gone_point')
    .select(['id', 'at', 'name', 'gone_at as goneAt', 'why', 'by'])
    .where('vessel_id', '=', vesselId)
    .orderBy('at', 'desc')
    .limit(GONE_SHOWN)
    .execute()
}
