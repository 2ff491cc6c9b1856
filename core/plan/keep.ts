import { plural } from '../time/words'
import { wallOf } from '../time/zone'
import { ruleInWords, type CalendarUnit, type KeepRule, type Retention } from './retention'

const HOUR_MS = 3_600_000
const DAY_MS = 24 * HOUR_MS

/** A point as retention sees it. Times are milliseconds since 1970, as all here. */
export interface AgingPoint {
  id: string
  at: number
  /** Complete, undamaged, and no condition failed. */
  isGood: boolean
  /** What the plan made stays by the rules; all else by its own term. */
  isPlanned: boolean
  /** Until when it was said to stay; null until somebody deletes it. Only of what the plan did not make. */
  term: number | null
  pin: Pin | null
}

/** Keeps a point from deletion, whatever retention says. */
export interface Pin {
  reason: string
  /** Null: until somebody takes it back. */
  until: number | null
}

/** Why a point stays, and until when. */
export interface Keeping {
  by: KeptBy
  until: Until
}

/** Milliseconds since 1970; null where it has no end; `as newer come` where nobody knows when those do. */
export type Until = number | null | 'as newer come'

export type KeptBy =
  | { kind: 'pin'; reason: string }
  | { kind: 'term' }
  /** Its vessel was deleted, and its points stay for a while. */
  | { kind: 'deleted' }
  | { kind: 'rule'; rule: KeepRule }
  | { kind: 'at least'; points: number }
  | { kind: 'newest' }
  /** The last that holds what is gone at the source. */
  | { kind: 'gone'; path: string }
  /** Moments of the log are entered from it. */
  | { kind: 'log' }
  /** Another point, or a moment of the log, builds on it. */
  | { kind: 'needed' }

export interface KeepQuestion {
  points: AgingPoint[]
  retention: Retention
  zone: string
  now: number
  /** When the plan makes its next points, ascending: by it is known when newer ones take a point's place. */
  coming?: number[]
  /** When the vessel or its source went, with which the rules end. */
  goneAt?: number | null
  /** Of things that are gone, the last good point that holds each. */
  lastOf?: { point: string; path: string; goneAt: number }[]
}

const rankOf = ({ until }: Keeping) => (until === null ? Infinity : until === 'as newer come' ? -Infinity : until)

/** Of two reasons the one that keeps longer, as far as that is known. */
export const longer = (a: Keeping | undefined, b: Keeping): Keeping => (a && rankOf(a) >= rankOf(b) ? a : b)

/**
 * Which points stay by themselves, and the reason that keeps each the longest. Points that are not among them lapse,
 * unless something that stays builds on them (core/chain/stays).
 */
export function keepPoints(question: KeepQuestion): Map<string, Keeping> {
  const { points, retention, now, goneAt = null, lastOf = [] } = question
  const kept = new Map<string, Keeping>()
  const keep = ({ id }: Pick<AgingPoint, 'id'>, by: KeptBy, until: Until) => {
    if (typeof until !== 'number' || until > now) kept.set(id, longer(kept.get(id), { by, until }))
  }
  const newestFirst = [...points].sort((a, b) => b.at - a.at)
  if (goneAt === null) keepByRules(question, newestFirst, keep)
  for (const point of points) {
    const goneDays = point.isPlanned ? retention.gone.automaticDays : retention.gone.byHandDays
    if (goneAt !== null) keep(point, { kind: 'deleted' }, goneAt + goneDays * DAY_MS)
    else if (!point.isPlanned) keep(point, { kind: 'term' }, point.term)
    // A pin that has an end is over then, whatever else was said.
    if (point.pin) keep(point, { kind: 'pin', reason: point.pin.reason }, point.pin.until)
  }
  for (const { point, path, goneAt: at } of lastOf) keep({ id: point }, { kind: 'gone', path }, at + retention.gone.automaticDays * DAY_MS)
  return kept
}

type Keep = (point: AgingPoint, by: KeptBy, until: Until) => void

function keepByRules({ retention, zone, coming }: KeepQuestion, newestFirst: AgingPoint[], keep: Keep): void {
  const planned = newestFirst.filter(({ isPlanned }) => isPlanned)
  for (const rule of retention.rules) {
    if (rule.kind === 'all') keepAll(rule, planned, keep)
    else if (rule.kind === 'last') keepNewest(planned, rule.points, { kind: 'rule', rule }, coming, keep)
    else keepByCalendar(rule, planned, { zone, coming }, keep)
  }
  keepNewest(newestFirst, retention.atLeast, { kind: 'at least', points: retention.atLeast }, coming, keep)
  if (newestFirst[0]) keep(newestFirst[0], { kind: 'newest' }, nextOf(coming, 1))
}

function keepAll(rule: KeepRule & { kind: 'all' }, points: AgingPoint[], keep: Keep): void {
  const ms = rule.count * (rule.unit === 'days' ? DAY_MS : HOUR_MS)
  for (const point of points) keep(point, { kind: 'rule', rule }, point.at + ms)
}

/** When so many points more are made; infinity where that is later than it is known of. */
const nextOf = (coming: number[] | undefined, count: number): Until => (coming ? (coming[count - 1] ?? Infinity) : 'as newer come')

/** So many good ones, and what is not good among them: that displaces none. */
function keepNewest(newestFirst: AgingPoint[], count: number, by: KeptBy, coming: number[] | undefined, keep: Keep): void {
  let newer = 0
  for (const point of newestFirst) {
    if (newer >= count) return
    keep(point, by, nextOf(coming, count - newer))
    if (point.isGood) newer++
  }
}

/** Of every stretch of the calendar its first good point; where none is good, the first. Only those that have a good one count. */
function keepByCalendar(
  rule: KeepRule & { kind: 'calendar' },
  newestFirst: AgingPoint[],
  { zone, coming }: { zone: string; coming: number[] | undefined },
  keep: Keep,
): void {
  const first = new Map<number, AgingPoint>()
  // The oldest comes last, and stands.
  for (const point of newestFirst) {
    const period = periodOf(zone, rule.each, point.at)
    if (point.isGood || !first.get(period)?.isGood) first.set(period, point)
  }
  const starts = coming && newPeriods(zone, rule, coming, [...first].find(([, { isGood }]) => isGood)?.[0])
  let newer = 0
  for (const [period, point] of first) {
    if (newer >= rule.count) return
    // The next point of the same stretch takes the place of one that is not good.
    const isDisplaced = !point.isGood && coming?.[0] !== undefined && periodOf(zone, rule.each, coming[0]) <= period
    keep(point, { kind: 'rule', rule }, isDisplaced ? coming[0]! : nextOf(starts, rule.count - newer))
    if (point.isGood) newer++
  }
}

/** When the plan makes the first good point of each stretch of the calendar after one that has one, as many as a rule counts. */
function newPeriods(zone: string, rule: KeepRule & { kind: 'calendar' }, coming: number[], after = -Infinity): number[] {
  const starts: number[] = []
  let last = after
  for (const at of coming) {
    const period = periodOf(zone, rule.each, at)
    if (period > last) {
      last = period
      if (starts.push(at) === rule.count) break
    }
  }
  return starts
}

/** The days from the first Monday before 1970 to its first day. */
const MONDAY = 3

/** The number of the hour, day… of a zone's calendar in which a moment lies; later ones are greater. Weeks begin on Mondays. */
export function periodOf(zone: string, unit: CalendarUnit, ms: number): number {
  const wall = wallOf(zone, ms)
  if (unit === 'hour') return Math.floor(wall / HOUR_MS)
  const day = Math.floor(wall / DAY_MS)
  if (unit === 'day') return day
  if (unit === 'week') return Math.floor((day + MONDAY) / 7)
  const date = new Date(wall)
  return unit === 'year' ? date.getUTCFullYear() : date.getUTCFullYear() * 12 + date.getUTCMonth()
}

/** Why a point stays: `one a week, for 8 weeks`, `pinned: before the release`. */
export function keptByInWords({ by, until }: Keeping): string {
  if (by.kind === 'pin') return `pinned: ${by.reason}`
  if (by.kind === 'term') return until === null ? 'until somebody deletes it' : 'as was said when it was made'
  if (by.kind === 'deleted') return 'its vessel was deleted, and that is its term'
  if (by.kind === 'rule') return ruleInWords(by.rule)
  if (by.kind === 'at least') return `always at least ${plural(by.points, 'good point')}`
  if (by.kind === 'newest') return 'the newest point'
  if (by.kind === 'gone') return `the last that holds ${by.path}, which is gone`
  return by.kind === 'log' ? 'moments of the log are entered from it' : 'what stays builds on it'
}
