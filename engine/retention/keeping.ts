import { staysOf, type Stays } from '../../core/chain/stays'
import { lackOf } from '../../core/content/missing'
import { keepPoints, type AgingPoint, type Keeping, type KeepQuestion } from '../../core/plan/keep'
import { dueTimes, spreadOf } from '../../core/plan/due'
import { defaultRetention, NOTHING_LAPSES, type Retention } from '../../core/plan/retention'
import { withNeeds } from '../../core/plan/needs'
import type { Schedule } from '../../core/plan/schedule'
import { select } from '../../core/selection/rules'
import { lanesOf, type LaneData, type LifelinePoint } from '../catalog/lifeline'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'

const HOUR_MS = 3_600_000
const DAY_MS = 24 * HOUR_MS

/** What stays of a vessel, and why. */
export interface Kept {
  lanes: LaneData
  stays: Stays
  /** By point, of those that stay. */
  keeping: Map<string, Keeping>
  /** From when on every moment of the log stays. */
  logFrom: Date
}

/** What stays of a vessel now. */
export async function keptOf(engine: EngineContext, vessel: Vessel): Promise<Kept> {
  const { schedule } = vessel.definition
  // What is left of a vessel that was deleted goes in the end, whatever was said of it.
  const retention = vessel.definition.retention ?? (vessel.gone ? defaultRetention() : NOTHING_LAPSES)
  const isSaid = vessel.definition.retention !== undefined || vessel.gone !== null
  const lanes = await lanesOf(engine, vessel.id)
  const now = engine.clock.now().getTime()
  // Where nothing was said of how long, what the plan made stays until somebody deletes it.
  const points = lanes.points.map(agingOf).map((point) => ({ ...point, isPlanned: point.isPlanned && isSaid }))
  const keeping = keepPoints({
    points,
    retention,
    zone: schedule?.zone ?? 'UTC',
    now,
    goneAt: vessel.gone && Date.parse(vessel.gone.at),
    ...(schedule && !vessel.pause && !vessel.gone ? { coming: comingPoints(schedule, vessel.id, now, retention) } : {}),
    lastOf: await lastOfGone(engine, vessel, lanes.points, points),
  })
  const logFrom = new Date(now - retention.logHours * HOUR_MS)
  // Where no log is left of what was deleted, nothing is kept to lead on from.
  const moment = vessel.gone && !lanes.chains.hasLogSince(logFrom) ? null : logFrom
  const stays = staysOf({ marks: lanes.artifacts, points: lanes.points }, lanes.chains, new Set(keeping.keys()), moment)
  const log = lanes.chains.hasLogSince(logFrom) ? { from: logFrom.getTime(), forMs: retention.logHours * HOUR_MS } : null
  const withAll = withNeeds(keeping, stays.points, { marks: lanes.artifacts, points: lanes.points }, isSaid ? log : null)
  return { lanes, stays, keeping: withAll, logFrom }
}

const timeOf = (text: string | null) => (text === null ? null : Date.parse(text))

/** A point as retention sees it. */
export const agingOf = (point: LifelinePoint): AgingPoint => ({
  id: point.id,
  at: point.at.getTime(),
  isGood: lackOf(point) === null,
  isPlanned: point.plan !== null,
  term: point.expiresAt?.getTime() ?? null,
  pin: point.pin && { reason: point.pin.reason, until: timeOf(point.pin.until) },
})

const COMING_AT_MOST = 3000
const COMING_MS = 4 * 366 * DAY_MS

/** When a plan makes its next points, as many as the rules may ask for. */
function comingPoints(schedule: Schedule, vessel: string, now: number, { rules, atLeast }: Retention): number[] {
  const isLong = rules.some((rule) => rule.kind === 'calendar' && rule.each !== 'hour')
  const most = isLong
    ? COMING_AT_MOST
    : Math.min(COMING_AT_MOST, Math.max(atLeast, ...rules.map((rule) => ('points' in rule ? rule.points : rule.count))))
  const all = schedule.lines.flatMap((line) => {
    const spread = spreadOf(line, vessel)
    const times: number[] = []
    for (const at of dueTimes(schedule, line, now - spread)) {
      if (at > now + COMING_MS || times.push(at + spread) === most) break
    }
    return times
  })
  return all.sort((a, b) => a - b).slice(0, most)
}

/** Of things that the vessel took and that are gone at their source, the newest good points that may hold them. */
async function lastOfGone(
  engine: EngineContext,
  { definition }: Vessel,
  points: LifelinePoint[],
  aging: AgingPoint[],
): Promise<NonNullable<KeepQuestion['lastOf']>> {
  const gone = await engine.db
    .selectFrom('thing')
    .select(['path', 'kind', 'labels', 'facts', 'first_seen', 'gone_at', 'gone_after'])
    .where('gone_at', 'is not', null)
    .where('gone_meant_at', 'is', null)
    .where('back_at', 'is', null)
    .execute()
  if (gone.length === 0) return []
  const taken = new Set(select(definition.rules, gone).taken.map(({ path }) => path))
  const isGood = new Set(aging.filter((point) => point.isGood).map(({ id }) => id))
  return gone
    .filter(({ path }) => taken.has(path))
    .flatMap(({ path, first_seen: since, gone_at: at, gone_after: after }) => {
      const before = points.filter((point) => point.at >= since && point.at <= at! && isGood.has(point.id))
      // Of those that were made after it was seen last, each may be the last that holds it.
      const sure = before.findLast((point) => point.at <= (after ?? at!))
      const perhaps = before.filter((point) => point.at > (after ?? at!))
      return [...(sure ? [sure] : []), ...perhaps].map(({ id }) => ({ point: id, path, goneAt: at!.getTime() }))
    })
}
