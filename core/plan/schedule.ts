import { Cron } from 'croner'
import { isZone } from '../time/zone'

/** When a vessel is backed up by itself: all that is said of it in a definition. */
export interface Schedule {
  /** Of which zone all its times are, by the name in the IANA database. */
  zone: string
  /** Nothing is due before; `every` is counted from it. ISO. */
  from: string
  lines: PlanLine[]
  /** What becomes of a time that comes while the line's last run goes on: one run waits, or it is left out. */
  meanwhile: 'wait' | 'leave out'
}

/** One of the ways in which a plan makes points: when, and what. */
export interface PlanLine {
  id: string
  name: string
  times: Times
  makes: Makes
  /** Absent, it begins at its time, however late that is. */
  window?: Window
}

export type Times =
  | { kind: 'every'; count: number; unit: 'minutes' | 'hours' }
  /** `at` as `HH:MM`. */
  | { kind: 'days'; at: string[]; on: Days }
  | { kind: 'cron'; expression: string }

/** Weekdays as the international standard counts them, from 1 for Monday to 7. */
export type Days =
  | { of: 'every day' }
  | { of: 'week'; days: number[] }
  /** Where a month has no such day, it is its last. */
  | { of: 'month'; day: number }
  | { of: 'weekday of month'; which: 1 | 2 | 3 | 4 | 'last'; weekday: number }

export type BackupKind = 'full' | 'differential' | 'incremental' | 'synthetic'

export type Makes =
  | { kind: 'each'; what: BackupKind }
  /** A number of points, of which the first is of one kind and the rest of another. */
  | { kind: 'cycle'; points: number; first: 'full' | 'synthetic'; rest: 'differential' | 'incremental' }

export interface Window {
  /** A run begins within this time after its own, or not at all. */
  minutes: number
  /** Vessels of one plan begin at different times within it. */
  spread: boolean
  /** What becomes of a run that goes on when it closes. */
  close: 'finish' | 'stop'
}

/** With what a cycle and a window begin that somebody asks for. */
export const NEW_CYCLE: Makes = { kind: 'cycle', points: 7, first: 'full', rest: 'differential' }
export const NEW_WINDOW: Window = { minutes: 120, spread: true, close: 'finish' }

export const SCHEDULE = {
  minutes: { min: 1, max: 10_080 },
  hours: { min: 1, max: 8760 },
  points: { min: 2, max: 1000 },
  window: { min: 1, max: 10_080 },
  lines: 20,
  times: 48,
} as const

const isWithin = (value: number, { min, max }: { min: number; max: number }) => Number.isInteger(value) && value >= min && value <= max
/** A time of the day, as `02:00`. */
export const CLOCK = /^([01]\d|2[0-3]):[0-5]\d$/
export const isWeekday = (day: number) => isWithin(day, { min: 1, max: 7 })

/** What keeps a schedule from being used, in words; empty when nothing does. */
export function scheduleTroubles({ zone, from, lines }: Schedule): string[] {
  const troubles: string[] = []
  if (!isZone(zone)) troubles.push(`There is no time zone “${zone}”.`)
  if (Number.isNaN(Date.parse(from))) troubles.push('The first start of the plan is no time.')
  if (lines.length === 0) troubles.push('The plan has no line: nothing would be due.')
  if (lines.length > SCHEDULE.lines) troubles.push(`A plan has ${SCHEDULE.lines} lines at most.`)
  const names = lines.map(({ name }) => name.trim().toLowerCase())
  if (names.includes('')) troubles.push('A line of the plan has no name.')
  if (new Set(names).size < names.length) troubles.push('Two lines of the plan have the same name.')
  for (const line of lines) for (const trouble of lineTroubles(line)) troubles.push(`The line “${line.name}” can’t be used. ${trouble}`)
  return troubles
}

function lineTroubles({ times, makes, window }: PlanLine): string[] {
  const troubles = timesTroubles(times)
  if (makes.kind === 'cycle' && !isWithin(makes.points, SCHEDULE.points))
    troubles.push(`A cycle has ${SCHEDULE.points.min} to ${SCHEDULE.points.max} points.`)
  if (window && !isWithin(window.minutes, SCHEDULE.window)) troubles.push('A window is a minute to a week long.')
  return troubles
}

function timesTroubles(times: Times): string[] {
  if (times.kind === 'every')
    return isWithin(times.count, SCHEDULE[times.unit]) ? [] : [`It is due every 1 to ${SCHEDULE[times.unit].max} ${times.unit}.`]
  if (times.kind === 'cron') return cronTroubles(times.expression)
  const { at, on } = times
  if (at.length === 0 || at.length > SCHEDULE.times) return [`It has 1 to ${SCHEDULE.times} times of the day.`]
  const odd = at.find((time) => !CLOCK.test(time))
  if (odd !== undefined) return [`“${odd}” is no time of the day; write it as 02:00.`]
  if (on.of === 'week' && (on.days.length === 0 || !on.days.every(isWeekday))) return ['No day of the week is chosen.']
  if (on.of === 'month' && !isWithin(on.day, { min: 1, max: 31 })) return ['A day of the month is 1 to 31.']
  if (on.of === 'weekday of month' && !isWeekday(on.weekday)) return ['No day of the week is chosen.']
  return []
}

/** How many fields an expression has: minute, hour, day of the month, month, weekday. */
const FIELDS = 5

function cronTroubles(expression: string): string[] {
  if (expression.trim().split(/\s+/).length !== FIELDS) return ['A cron expression has five fields: minute, hour, day, month, weekday.']
  try {
    return cronOf(expression).nextRun(new Date(0)) ? [] : ['Its cron expression never comes.']
  } catch (error) {
    return [`Its cron expression can’t be read: ${(error as Error).message}`]
  }
}

const read = new Map<string, Cron>()

/** Of what the clock on the wall shows: its zone is not the expression's matter. */
export function cronOf(expression: string): Cron {
  const cron = read.get(expression) ?? new Cron(expression, { utcOffset: 0, paused: true })
  read.set(expression, cron)
  return cron
}
