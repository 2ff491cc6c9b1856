import { isZone, momentOfWall, wallOf } from '../time/zone'
import { isWeekday, CLOCK } from './schedule'

const MINUTE_MS = 60_000
const DAY_MS = 86_400_000
/** What lasts longer is told as if it ended then. */
const LOOKED_AT_MS = 400 * DAY_MS

/** Times in which no plan begins anything at a source. */
export interface QuietTime {
  zone: string
  /** `HH:MM` of the zone; an end that is not later than the beginning is of the next day. */
  from: string
  to: string
  /** Weekdays on which it begins, from 1 for Monday. */
  days: number[]
}

export const QUIET_TIMES = 20

/** What keeps them from being used, in words; empty when nothing does. */
export function quietTroubles(times: QuietTime[]): string[] {
  const troubles = times.flatMap(({ zone, from, to, days }) => [
    ...(isZone(zone) ? [] : [`There is no time zone “${zone}”.`]),
    ...[from, to].filter((time) => !CLOCK.test(time)).map((time) => `“${time}” is no time of the day; write it as 02:00.`),
    ...(days.length > 0 && days.every(isWeekday) ? [] : ['No day of the week is chosen.']),
  ])
  if (times.length > QUIET_TIMES) troubles.push(`A source has ${QUIET_TIMES} such times at most.`)
  return [...new Set(troubles)]
}

const minutesOf = (clock: string) => Number(clock.slice(0, 2)) * 60 + Number(clock.slice(3))

/** When the time ends in which nothing may begin, of that which holds a moment; null where there is none. */
export function quietUntil(times: QuietTime[], at: number): number | null {
  let until: number | null = null
  // What ends in the midst of another ends with that.
  for (let moment = at; moment < at + LOOKED_AT_MS;) {
    const ends = times.flatMap((time) => endOf(time, moment) ?? [])
    if (ends.length === 0) return until
    until = moment = Math.max(...ends)
  }
  return until
}

function endOf({ zone, from, to, days }: QuietTime, at: number): number | null {
  const today = Math.floor(wallOf(zone, at) / DAY_MS) * DAY_MS
  const [begins, ends] = [minutesOf(from) * MINUTE_MS, minutesOf(to) * MINUTE_MS]
  for (const day of [today - DAY_MS, today]) {
    if (!days.includes(new Date(day).getUTCDay() || 7)) continue
    const end = momentOfWall(zone, day + ends + (ends <= begins ? DAY_MS : 0))
    if (momentOfWall(zone, day + begins) <= at && at < end) return end
  }
  return null
}
