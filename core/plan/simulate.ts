import { comingPlaces } from './cycle'
import type { Retention } from './retention'
import type { BackupKind, Schedule } from './schedule'
import { spansOf } from './spans'

// What a plan will mean, day by day: which points there are, what they take in the store, what that costs, what could be
// lost, and how long everything would take to come back. From core alone, so that it runs while somebody still writes.

const HOUR_MS = 3_600_000
const DAY_MS = 24 * HOUR_MS

/** What one vessel takes, as it was measured, or as it is assumed. Bytes are those in the store unless said otherwise. */
export interface Sizes {
  /** Of the first full, and how many bytes that is to read and to write back. */
  fullBytes: number
  plainBytes: number
  /** What of a full is new a day after the last one. */
  changedPerDay: number
  /** What a differential takes for each day since its full, and an incremental for each since the last point. */
  differentialPerDay: number
  incrementalPerDay: number
  /** Of the log, for each day; 0 where none is followed. */
  logPerDay: number
  /** Plain bytes that a restore brings back in a second. */
  restoredPerSecond: number
  /** Which of these were assumed and not measured. */
  assumed: string[]
}

/** What a store costs, in a currency that nobody names. */
export interface Price {
  perGbMonth: number
  perGbRead: number
}

export interface SimulatedPoint {
  at: number
  kind: BackupKind
  line: string
  /** Until when it stays, with what builds on it and the log; infinity where that is beyond what was simulated. */
  until: number
  /** Its place among all of the point that it builds on; null of fulls. */
  parent: number | null
}

export interface SimulatedDay {
  /** The end of the day. */
  at: number
  /** Points that are there then, by kind. */
  points: Partial<Record<BackupKind, number>>
  storedBytes: number
  /** Of this day. */
  cost: number
  /** The longest time of the day without a point, where no log is followed; else how long a segment of it takes. */
  worstLossMs: number
  /** How long the point of the day that takes longest would take to restore, with all that it builds on. */
  worstBackMs: number
  /** Bytes of the store that this reads. */
  worstReadBytes: number
}

export interface Simulation {
  points: SimulatedPoint[]
  days: SimulatedDay[]
}

export interface Simulated {
  schedule: Schedule
  retention: Retention | null
  sizes: Sizes
  price: Price | null
  /** Seconds until a change is in the store, where the log is followed; null where it is not. */
  logSeconds: number | null
}

const POINTS_AT_MOST = 60_000

/**
 * What a plan will mean over some days, if every run succeeds and begins at its time. A plan begins with a full.
 *
 * @param from milliseconds since 1970
 */
export function simulate(plan: Simulated, from: number, days: number): Simulation {
  const points = pointsOf(plan, from, from + days * DAY_MS)
  return { points, days: Array.from({ length: days }, (_, i) => dayOf(plan, points, from + i * DAY_MS)) }
}

function pointsOf({ schedule, retention, logSeconds }: Simulated, from: number, to: number): SimulatedPoint[] {
  const made: Omit<SimulatedPoint, 'until' | 'parent'>[] = [{ at: from, kind: 'full', line: '' }]
  for (const line of schedule.lines) {
    let count = 0
    for (const { at, what } of comingPlaces(schedule, line, null, from)) {
      if (at > to || ++count > POINTS_AT_MOST) break
      made.push({ at, kind: what, line: line.name })
    }
  }
  made.sort((a, b) => a.at - b.at)
  const until = retention
    ? spansOf(
        made.map(({ at }) => at),
        retention,
        schedule.zone,
      )
    : made.map(() => Infinity)
  const parents = parentsOf(made)
  const logMs = retention && logSeconds !== null ? retention.logHours * HOUR_MS : 0
  const points = made.map((point, i) => ({ ...point, until: Math.max(until[i]!, logMs > 0 ? point.at + logMs : 0), parent: parents[i]! }))
  // What is built on stays as long as what builds on it.
  for (let i = points.length - 1; i >= 0; i--) {
    const { parent, until } = points[i]!
    if (parent !== null) points[parent]!.until = Math.max(points[parent]!.until, until)
  }
  return points
}

const isFull = (kind: BackupKind) => kind === 'full' || kind === 'synthetic'

function parentsOf(points: { kind: BackupKind }[]): (number | null)[] {
  let full = 0
  return points.map(({ kind }, i) => {
    if (isFull(kind)) {
      full = i
      return null
    }
    return kind === 'differential' ? full : i - 1
  })
}

function dayOf({ sizes, price, logSeconds, retention }: Simulated, points: SimulatedPoint[], from: number): SimulatedDay {
  const to = from + DAY_MS
  const day: SimulatedDay = { at: to, points: {}, storedBytes: 0, cost: 0, worstLossMs: 0, worstBackMs: 0, worstReadBytes: 0 }
  let lastFull: number | null = null
  let newest: number | null = null
  for (const [i, { at, kind, until }] of points.entries()) {
    if (at > to) break
    if (at > from && newest !== null) day.worstLossMs = Math.max(day.worstLossMs, at - newest)
    newest = at
    if (until <= to) continue
    day.points[kind] = (day.points[kind] ?? 0) + 1
    day.storedBytes += storedOf(points, i, lastFull, sizes)
    if (isFull(kind)) lastFull = at
    if (at > from) {
      const stored = readOf(points, i, sizes)
      day.worstReadBytes = Math.max(day.worstReadBytes, stored)
      day.worstBackMs = Math.max(day.worstBackMs, backOf(stored, sizes))
    }
  }
  if (newest !== null) day.worstLossMs = Math.max(day.worstLossMs, to - Math.max(newest, from))
  if (logSeconds !== null) day.worstLossMs = logSeconds * 1000
  const logDays = Math.min((to - points[0]!.at) / DAY_MS, retention ? retention.logHours / 24 : Infinity)
  if (logSeconds !== null) day.storedBytes += sizes.logPerDay * logDays
  if (price) day.cost = (day.storedBytes / 1e9) * (price.perGbMonth / DAYS_OF_MONTH)
  return day
}

const DAYS_OF_MONTH = 365.25 / 12

/** What a point takes beside those that are there before it: of a full only what the last full that is there does not hold. */
function storedOf(points: SimulatedPoint[], i: number, lastFull: number | null, sizes: Sizes): number {
  const { at, kind, parent } = points[i]!
  const daysSince = (before: number) => (at - before) / DAY_MS
  if (isFull(kind)) return lastFull === null ? sizes.fullBytes : Math.min(sizes.fullBytes, sizes.changedPerDay * daysSince(lastFull))
  const perDay = kind === 'differential' ? sizes.differentialPerDay : sizes.incrementalPerDay
  return Math.min(sizes.fullBytes, perDay * daysSince(points[parent!]!.at))
}

/** Bytes that restoring a point reads from the store: all of its full, and what leads on from it. */
function readOf(points: SimulatedPoint[], i: number, sizes: Sizes): number {
  let bytes = sizes.fullBytes
  for (let at = i; points[at]!.parent !== null; at = points[at]!.parent!) bytes += storedOf(points, at, null, sizes)
  return bytes
}

/** How long it takes to restore what was read so, in milliseconds: of what leads on from a full, each plain byte once more. */
function backOf(stored: number, sizes: Sizes): number {
  const plainOfStored = sizes.fullBytes > 0 ? sizes.plainBytes / sizes.fullBytes : 1
  const bytes = sizes.plainBytes + (stored - sizes.fullBytes) * plainOfStored
  return (bytes / sizes.restoredPerSecond) * 1000
}

/** The points that exist at a moment, of what was simulated. */
export const pointsAt = ({ points }: Simulation, moment: number): SimulatedPoint[] =>
  points.filter(({ at, until }) => at <= moment && until > moment)
