import { longestBetween } from './loss'
import { defaultRetention, type Retention } from './retention'
import type { Makes, PlanLine, Schedule, Times } from './schedule'
import { simulate, type Sizes } from './simulate'
import type { Promises } from './state'
import { durationInWords } from '../time/words'

const MINUTE_MS = 60_000
const HOUR_MS = 60 * MINUTE_MS
const DAY_MS = 24 * HOUR_MS

/** What a plan is proposed from. */
export interface Asked {
  promises: Promises
  sizes: Sizes
  zone: string
  /** Milliseconds since 1970. */
  now: number
  /** Whether the log of everything that is taken could be followed, or is. */
  canLog: boolean
  /** By which a line is known. */
  id: string
}

export interface Proposal {
  schedule: Schedule
  retention: Retention
  follow: boolean
  /** Why so, in sentences; and what it can't keep. */
  why: string[]
}

/** Shorter than this, what may be lost is promised by the log alone, where there is one. */
const LOG_BELOW_MS = 6 * HOUR_MS
/** Half of a full changes between two of them: differentials would soon be as large. */
const MUCH_CHANGES = 0.5
const CYCLES = [7, 4, 2]

/**
 * A plan that keeps what is promised, of what was measured: points as seldom as may be, in cycles as long as everything
 * still comes back in time.
 */
export function proposePlan(asked: Asked): Proposal {
  const { promises, canLog } = asked
  const why: string[] = []
  const couldLose = promises.couldLose ?? 2 * DAY_MS
  const follow = canLog && couldLose < LOG_BELOW_MS
  if (follow) why.push('The log is followed: what may be lost is less than points could keep without burdening the source.')
  const kept = follow ? NIGHTLY : RHYTHMS.find((tried) => keeps(asked, tried, couldLose))
  const rhythm = kept ?? RHYTHMS.at(-1)!
  if (!kept) why.push(`A point every ${rhythm.words} is the most that is proposed; to lose less than that, follow the log.`)
  else if (!follow)
    why.push(`A point every ${rhythm.words}${promises.couldLose ? ` keeps what could be lost within ${durationInWords(couldLose)}` : ''}.`)
  const makes = makesOf(asked, rhythm, why)
  const retention = defaultRetention()
  return { schedule: scheduleOf(asked, rhythm, makes), retention, follow, why }
}

interface Rhythm {
  name: string
  words: string
  times: Times
  /** Minutes in which it may begin; 0 for none. */
  window: number
  perDay: number
}

const daily = (at: string[], words: string, window: number): Rhythm => ({
  name: at.length === 1 ? 'nightly' : `${at.length} times a day`,
  words,
  times: { kind: 'days', at, on: { of: 'every day' } },
  window,
  perDay: at.length,
})
const every = (count: number, unit: 'hours' | 'minutes', perDay: number): Rhythm => ({
  name: count === 1 ? 'hourly' : `every ${count} ${unit}`,
  words: count === 1 ? 'hour' : `${count} ${unit}`,
  times: { kind: 'every', count, unit },
  window: 0,
  perDay,
})
const NIGHTLY = daily(['02:00'], 'night', 120)
/** The most seldom first. */
const RHYTHMS: Rhythm[] = [
  NIGHTLY,
  daily(['02:00', '14:00'], '12 hours', 60),
  daily(['02:00', '10:00', '18:00'], '8 hours', 30),
  every(4, 'hours', 6),
  every(2, 'hours', 12),
  every(1, 'hours', 24),
  every(30, 'minutes', 48),
  every(15, 'minutes', 96),
]

const scheduleOf = ({ zone, now, id }: Asked, { name, times, window }: Rhythm, makes: Makes): Schedule => {
  const line: PlanLine = { id, name, times, makes, ...(window > 0 ? { window: { minutes: window, spread: true, close: 'finish' } } : {}) }
  return { zone, from: new Date(Math.floor(now / MINUTE_MS) * MINUTE_MS).toISOString(), lines: [line], meanwhile: 'wait' }
}

function keeps(asked: Asked, rhythm: Rhythm, couldLose: number): boolean {
  const longest = longestBetween(scheduleOf(asked, rhythm, { kind: 'each', what: 'full' }), asked.now)
  return longest !== null && longest <= couldLose
}

/** Cycles of a week or less, as long as a restore of their last point is in time; else each point is a full. */
function makesOf(asked: Asked, rhythm: Rhythm, why: string[]): Makes {
  const { sizes, promises } = asked
  const each: Makes = { kind: 'each', what: 'full' }
  if (sizes.fullBytes > 0 && sizes.differentialPerDay > MUCH_CHANGES * sizes.fullBytes) {
    why.push('So much changes in a day that each point is a full.')
    return each
  }
  const backWithin = promises.backWithin ?? Infinity
  for (const days of CYCLES) {
    const points = Math.max(2, Math.min(1000, days * rhythm.perDay))
    const makes: Makes = { kind: 'cycle', points, first: 'full', rest: 'differential' }
    if (worstBack(asked, rhythm, makes) > backWithin) continue
    why.push(`A full every ${days} days, and differentials between: everything comes back from two points at most.`)
    return makes
  }
  const alone = worstBack(asked, rhythm, each)
  if (alone > backWithin)
    why.push(
      `Even from a full alone, everything takes ${durationInWords(alone)} to come back, and ${durationInWords(backWithin)} is promised.`,
    )
  else why.push('Each point is a full, so that everything comes back in time.')
  return each
}

function worstBack(asked: Asked, rhythm: Rhythm, makes: Makes): number {
  const schedule = scheduleOf(asked, rhythm, makes)
  const plan = { schedule, retention: null, sizes: asked.sizes, price: null, logSeconds: null }
  return Math.max(...simulate(plan, asked.now, CYCLES[0]! + 1).days.map(({ worstBackMs }) => worstBackMs))
}
