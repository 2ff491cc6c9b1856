import { dueTimes } from './due'
import type { Schedule } from './schedule'

const DAY_MS = 86_400_000
/** Over so long a plan is looked at: every change of the clock and every month is in it. */
const LOOKED_AT_MS = 400 * DAY_MS
/** No more times of one line are looked at; a plan with more of them repeats itself long before. */
const TIMES_AT_MOST = 20_000

/**
 * The longest time, in milliseconds, between two points that a plan makes, with the window of the later one: what could
 * be lost at most where there is no log, if every run succeeds. Null where fewer than two are due within the next year.
 */
export function longestBetween(schedule: Schedule, now: number): number | null {
  const from = Math.max(now, Date.parse(schedule.from))
  const times: { at: number; windowMs: number }[] = []
  let until = from + LOOKED_AT_MS
  for (const line of schedule.lines) {
    const windowMs = (line.window?.minutes ?? 0) * 60_000
    let count = 0
    for (const at of dueTimes(schedule, line, from)) {
      if (at > until) break
      times.push({ at, windowMs })
      // What is known of one line only up to here says nothing of later.
      if (++count === TIMES_AT_MOST) until = at
    }
  }
  const known = times.filter(({ at }) => at <= until).sort((a, b) => a.at - b.at)
  if (known.length < 2) return null
  return known.slice(1).reduce((longest, { at, windowMs }, i) => Math.max(longest, at + windowMs - known[i]!.at), 0)
}
