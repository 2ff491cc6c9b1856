import { nextPlace, type LastOfLine, type Place } from './cycle'
import { closesAt, dueTimes, spreadOf } from './due'
import type { PlanLine, Schedule } from './schedule'

/** What is known of a line when it is decided what is due of it. */
export interface LineState {
  /** Every time up to here was decided; milliseconds since 1970, as all here. */
  decidedUntil: number
  isPaused: boolean
  /** Runs of the line that are not over. */
  waiting: number
  running: number
  last: LastOfLine | null
  /** Whether nothing may begin at a moment, by whose times, and until when. */
  quiet?: (at: number) => { source: string; until: number } | null
}

export interface DueRun extends Place {
  outcome: 'run'
  due: number
  /** How long after its time it begins, where that is not at once. */
  lateMs: number
  closesAt: number | null
}

/** Times that nothing is made for, with the reason. */
export interface NotRun {
  outcome: 'missed' | 'left out'
  due: number
  lastDue: number
  times: number
  why: string
}

export interface Decided {
  decidedUntil: number
  /** At most one run. */
  run: DueRun | null
  not: NotRun[]
}

/** Nobody is told of a delay that is shorter. */
const LATE_MS = 60_000

/**
 * Decides what becomes of every time of a line since it was decided last: at most one run, of the newest, and for the
 * others why there is none.
 */
export function decide(schedule: Schedule, line: PlanLine, vessel: string, state: LineState, now: number): Decided {
  const spread = spreadOf(line, vessel)
  const times = timesUpTo(schedule, line, state.decidedUntil, now - spread)
  if (times === null) return { decidedUntil: state.decidedUntil, run: null, not: [] }
  const { first, before, newest, count } = times
  const quiet = state.quiet?.(now) ?? null
  const closes = closesAt(line, newest)
  // It waits until something may begin, if that comes before its window closes.
  if (quiet && !state.isPaused && (closes === null || closes > quiet.until)) return { decidedUntil: state.decidedUntil, run: null, not: [] }
  const quietThen = state.quiet?.(before)
  const made = { outcome: 'missed', why: quietThen ? whyQuiet(quietThen.source) : UNSEEN } as const
  const not: NotRun[] = []
  if (count > 1) not.push({ ...(state.isPaused ? PAUSED : made), due: first, lastDue: before, times: count - 1 })
  const why = whyNot(schedule, line, state, newest, now)
  if (why) return { decidedUntil: newest, run: null, not: [...not, { ...why, due: newest, lastDue: newest, times: 1 }] }
  const delay = now - newest - spread
  const run: DueRun = {
    outcome: 'run',
    due: newest,
    ...nextPlace(line.makes, state.last),
    lateMs: delay > LATE_MS ? delay : 0,
    closesAt: closesAt(line, newest),
  }
  return { decidedUntil: newest, run, not }
}

/** Times of a line: how many, the first, the newest and the one before that. */
interface Times {
  first: number
  before: number
  newest: number
  count: number
}

/** The times after one moment up to another; null where there is none. */
function timesUpTo(schedule: Schedule, line: PlanLine, after: number, until: number): Times | null {
  let times = null as Times | null
  for (const at of dueTimes(schedule, line, after)) {
    if (at > until) break
    times = { first: times?.first ?? at, before: times?.newest ?? at, newest: at, count: (times?.count ?? 0) + 1 }
  }
  return times
}

const UNSEEN = 'No worker decided it then; what is due next makes up for it.'
const whyQuiet = (source: string) => `Nothing might begin at ${source} then.`
const PAUSED = { outcome: 'left out', why: 'The vessel was paused.' } as const

function whyNot(schedule: Schedule, line: PlanLine, state: LineState, due: number, now: number): Pick<NotRun, 'outcome' | 'why'> | null {
  if (state.isPaused) return PAUSED
  const closes = closesAt(line, due)
  const quiet = state.quiet?.(Math.min(now, closes ?? now))
  if (quiet && closes !== null && closes <= quiet.until)
    return { outcome: 'missed', why: `${whyQuiet(quiet.source)} Its window closed before.` }
  if (closes !== null && now > closes) return { outcome: 'missed', why: 'No worker decided it before its window closed.' }
  if (schedule.meanwhile === 'leave out' && state.running + state.waiting > 0)
    return { outcome: 'left out', why: 'The last run of this line still went on.' }
  if (state.waiting > 0) return { outcome: 'left out', why: 'A run of this line waited already.' }
  return null
}
