import { fromAbsolute } from '@internationalized/date'

// What a clock on the wall of a time zone shows, and when. A wall time is written as milliseconds as if it were UTC.

const WEEK_MS = 7 * 86_400_000
const MINUTE_MS = 60_000
/** No zone is further from UTC than this, either way. */
const FURTHEST_MS = 15 * 3_600_000

/** The offsets of one week of a zone: one, or another from a moment on. */
interface Week {
  before: number
  after: number
  changeAt: number
}

const zones = new Map<string, Map<number, Week>>()

/** Whether a name is one of a time zone that is known here. */
export function isZone(name: string): boolean {
  try {
    return Boolean(new Intl.DateTimeFormat('en', { timeZone: name }))
  } catch {
    return false
  }
}

const lookUp = (zone: string, ms: number): number => fromAbsolute(ms, zone).offset

/** A zone changes its offset at most once in a week, so that few questions to the calendar answer many of ours. */
function weekOf(zone: string, ms: number): Week {
  const weeks = zones.get(zone) ?? new Map<number, Week>()
  zones.set(zone, weeks)
  const number = Math.floor(ms / WEEK_MS)
  const known = weeks.get(number)
  if (known) return known
  const [from, to] = [number * WEEK_MS, (number + 1) * WEEK_MS]
  const week = { before: lookUp(zone, from), after: lookUp(zone, to - 1), changeAt: Infinity }
  if (week.before !== week.after) week.changeAt = changeBetween(zone, from, to, week.before)
  weeks.set(number, week)
  return week
}

/** The minute in which a zone leaves an offset. */
function changeBetween(zone: string, from: number, to: number, before: number): number {
  let [low, high] = [from / MINUTE_MS, to / MINUTE_MS]
  while (high - low > 1) {
    const middle = Math.floor((low + high) / 2)
    if (lookUp(zone, middle * MINUTE_MS) === before) low = middle
    else high = middle
  }
  return high * MINUTE_MS
}

/** How many milliseconds a zone is ahead of UTC at a moment. */
export function offsetOf(zone: string, ms: number): number {
  const { before, after, changeAt } = weekOf(zone, ms)
  return ms < changeAt ? before : after
}

/** What the clock of a zone shows at a moment. */
export const wallOf = (zone: string, ms: number): number => ms + offsetOf(zone, ms)

/**
 * When the clock of a zone shows a time: the first of two moments where it shows it twice, and where it never shows it,
 * the first moment at which it shows a later one.
 */
export function momentOfWall(zone: string, wall: number): number {
  const [early, late] = [wall - FURTHEST_MS, wall + FURTHEST_MS]
  const offsets = [offsetOf(zone, early), offsetOf(zone, late)]
  const shows = offsets.map((offset) => wall - offset).filter((ms) => wallOf(zone, ms) === wall)
  if (shows.length > 0) return Math.min(...shows)
  const change = [early, wall, late].map((ms) => weekOf(zone, ms).changeAt).find((ms) => ms >= early && ms <= late)
  return change ?? wall - offsets[1]!
}
