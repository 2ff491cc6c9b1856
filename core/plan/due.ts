import { momentOfWall, wallOf } from '../time/zone'
import { cronOf, type Days, type PlanLine, type Schedule, type Times } from './schedule'

const MINUTE_MS = 60_000
const HOUR_MS = 60 * MINUTE_MS
const DAY_MS = 24 * HOUR_MS

/**
 * The times at which a line of a plan is due after a moment, ascending, without an end unless its cron expression has
 * one. A time that the zone's clock never shows is due at the next that it does; one that it shows twice is due once.
 *
 * @param after milliseconds since 1970, exclusive
 */
export function* dueTimes(schedule: Pick<Schedule, 'zone' | 'from'>, line: Pick<PlanLine, 'times'>, after: number): Generator<number> {
  const from = Date.parse(schedule.from)
  let last = Math.max(after, from - 1)
  for (const time of line.times.kind === 'every' ? every(line.times, from, last) : byClock(schedule.zone, line.times, last)) {
    if (time <= last) continue
    last = time
    yield time
  }
}

/** The next time at which a line is due after a moment; null when it never is again. */
export function nextDue(schedule: Pick<Schedule, 'zone' | 'from'>, line: Pick<PlanLine, 'times'>, after: number): number | null {
  return dueTimes(schedule, line, after).next().value ?? null
}

/** Counted by the clock that never jumps. */
function* every({ count, unit }: Times & { kind: 'every' }, from: number, after: number): Generator<number> {
  const step = count * (unit === 'hours' ? HOUR_MS : MINUTE_MS)
  for (let n = Math.max(0, Math.floor((after - from) / step)); ; n++) yield from + n * step
}

function* byClock(zone: string, times: Exclude<Times, { kind: 'every' }>, after: number): Generator<number> {
  // No earlier time of the clock comes later: of one that is shown twice, it is the first.
  const wall = wallOf(zone, after)
  for (const time of times.kind === 'cron' ? byCron(times.expression, wall) : byDays(times, wall)) yield momentOfWall(zone, time)
}

function* byCron(expression: string, after: number): Generator<number> {
  const cron = cronOf(expression)
  for (let at = cron.nextRun(new Date(after)); at; at = cron.nextRun(at)) yield at.getTime()
}

function* byDays({ at, on }: Times & { kind: 'days' }, after: number): Generator<number> {
  const minutes = at.map((time) => Number(time.slice(0, 2)) * 60 + Number(time.slice(3))).sort((a, b) => a - b)
  for (let day = Math.floor(after / DAY_MS) * DAY_MS; ; day += DAY_MS)
    if (isOn(new Date(day), on)) for (const minute of minutes) yield day + minute * MINUTE_MS
}

const weekdayOf = (day: Date) => day.getUTCDay() || 7
const lengthOfMonth = (day: Date) => new Date(Date.UTC(day.getUTCFullYear(), day.getUTCMonth() + 1, 0)).getUTCDate()

/** @param day midnight of the day, as if it were UTC */
function isOn(day: Date, on: Days): boolean {
  if (on.of === 'every day') return true
  if (on.of === 'week') return on.days.includes(weekdayOf(day))
  const date = day.getUTCDate()
  if (on.of === 'month') return date === Math.min(on.day, lengthOfMonth(day))
  if (weekdayOf(day) !== on.weekday) return false
  return on.which === 'last' ? date + 7 > lengthOfMonth(day) : Math.ceil(date / 7) === on.which
}

/**
 * How long after its own time a vessel begins within its window, in milliseconds, where vessels don't begin together:
 * always the same for one vessel, and at most the first half, so that there is time to try again.
 */
export function spreadOf({ window }: Pick<PlanLine, 'window'>, vessel: string): number {
  if (!window?.spread) return 0
  return Math.floor(shareOf(vessel) * window.minutes * (MINUTE_MS / 2))
}

/** A share from 0 to 1 that a text always has: FNV-1a, and mixed once more so that near texts lie far from each other. */
function shareOf(text: string): number {
  const sum = [...text].reduce((sum, letter) => Math.imul(sum ^ letter.codePointAt(0)!, 0x01000193), 0x811c9dc5)
  const mixed = Math.imul(sum ^ (sum >>> 16), 0x85ebca6b)
  return ((mixed ^ (mixed >>> 13)) >>> 0) / 2 ** 32
}

/** When the window of a time closes; null where it has none. */
export const closesAt = ({ window }: Pick<PlanLine, 'window'>, due: number): number | null =>
  window ? due + window.minutes * MINUTE_MS : null
