import { periodOf } from './keep'
import type { KeepRule, Retention } from './retention'

const HOUR_MS = 3_600_000
const DAY_MS = 24 * HOUR_MS

/**
 * Until when each of a sequence of good points stays by the rules, once all of them are made; infinity where the sequence
 * ends before. The same as `keepPoints` says of each when the later ones are still to come.
 *
 * @param times when they are made, ascending, in milliseconds since 1970
 */
export function spansOf(times: number[], { rules, atLeast }: Pick<Retention, 'rules' | 'atLeast'>, zone: string): number[] {
  // The newest stays until the next is made.
  const until = times.map((_, i) => times[i + 1] ?? Infinity)
  const extend = (i: number, to: number) => {
    if (to > until[i]!) until[i] = to
  }
  const keepNewest = (count: number) => times.forEach((_, i) => extend(i, times[i + count] ?? Infinity))
  keepNewest(atLeast)
  for (const rule of rules) {
    if (rule.kind === 'all') times.forEach((at, i) => extend(i, at + rule.count * (rule.unit === 'days' ? DAY_MS : HOUR_MS)))
    else if (rule.kind === 'last') keepNewest(rule.points)
    else byCalendar(times, rule, zone).forEach(([i, to]) => extend(i, to))
  }
  return until
}

/** The first points of stretches of the calendar, with when each is displaced. */
function byCalendar(times: number[], { each, count }: KeepRule & { kind: 'calendar' }, zone: string): [index: number, until: number][] {
  const first: number[] = []
  let last = -Infinity
  times.forEach((at, i) => {
    const period = periodOf(zone, each, at)
    if (period > last) first.push(i)
    last = Math.max(last, period)
  })
  return first.map((index, n) => [index, times[first[n + count] ?? Infinity] ?? Infinity])
}
