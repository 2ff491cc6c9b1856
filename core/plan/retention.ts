import { plural } from '../time/words'

/**
 * How long points and logs stay. The rules are for what a plan makes, and any one of them that keeps a point is enough;
 * what a person backed up stays as long as was said then.
 */
export interface Retention {
  rules: KeepRule[]
  /** So many good points stay, whatever their age. */
  atLeast: number
  /** Every moment of the log of so many hours can be entered; then only points stay. */
  logHours: number
  /** What is proposed when somebody backs up by hand. Null: until somebody deletes it. */
  byHandDays: number | null
  /** After the vessel, its source or a thing is gone: how long what the plan made stays, and what a person did. */
  gone: { automaticDays: number; byHandDays: number }
}

export type KeepRule =
  | { kind: 'last'; points: number }
  | { kind: 'all'; count: number; unit: 'hours' | 'days' }
  /** The first good point of each of so many hours, days… that have one, by the calendar of the plan's zone. */
  | { kind: 'calendar'; each: CalendarUnit; count: number }

export const CALENDAR_UNITS = ['hour', 'day', 'week', 'month', 'year'] as const
export type CalendarUnit = (typeof CALENDAR_UNITS)[number]

export const RETENTION = {
  rules: 20,
  count: { min: 1, max: 10_000 },
  atLeast: { min: 1, max: 1000 },
  logHours: { min: 0, max: 87_600 },
  days: { min: 1, max: 36_500 },
} as const

/** With what a new vessel begins. */
export const defaultRetention = (): Retention => ({
  rules: [
    { kind: 'all', count: 3, unit: 'days' },
    { kind: 'calendar', each: 'day', count: 14 },
    { kind: 'calendar', each: 'week', count: 8 },
    { kind: 'calendar', each: 'month', count: 12 },
  ],
  atLeast: 3,
  logHours: 72,
  byHandDays: null,
  gone: { automaticDays: 90, byHandDays: 365 },
})

/** Where a definition says nothing: what the plan made stays, and all else as long as was said when it was made. */
export const NOTHING_LAPSES: Retention = { ...defaultRetention(), rules: [], atLeast: 1, logHours: RETENTION.logHours.max }

const isWithin = (value: number, { min, max }: { min: number; max: number }) => Number.isInteger(value) && value >= min && value <= max

/** What keeps it from being used, in words; empty when nothing does. */
export function retentionTroubles({ rules, atLeast, logHours, byHandDays, gone }: Retention): string[] {
  const troubles: string[] = []
  if (rules.length === 0) troubles.push('No rule says how long points stay.')
  if (rules.length > RETENTION.rules) troubles.push(`How long points stay is said by ${RETENTION.rules} rules at most.`)
  const counts = rules.map((rule) => (rule.kind === 'last' ? rule.points : rule.count))
  if (!counts.every((count) => isWithin(count, RETENTION.count)))
    troubles.push('A rule of how long points stay counts from 1 to 10,000, in whole numbers.')
  if (!isWithin(atLeast, RETENTION.atLeast)) troubles.push('At least 1 to 1,000 good points stay, whatever their age.')
  if (!isWithin(logHours, RETENTION.logHours)) troubles.push('Every moment of the log stays for 0 to 87,600 hours, which are ten years.')
  const days = [gone.automaticDays, gone.byHandDays, ...(byHandDays === null ? [] : [byHandDays])]
  if (!days.every((count) => isWithin(count, RETENTION.days))) troubles.push('A term is 1 to 36,500 days.')
  return troubles
}

/** `the last 14 points`, `everything of 3 days`, `one a week, for 8 weeks`. */
export function ruleInWords(rule: KeepRule): string {
  if (rule.kind === 'last') return rule.points === 1 ? 'the last point' : `the last ${plural(rule.points, 'point')}`
  if (rule.kind === 'all') return `everything of ${plural(rule.count, rule.unit.slice(0, -1))}`
  return `one ${rule.each === 'hour' ? 'an' : 'a'} ${rule.each}, for ${plural(rule.count, rule.each)}`
}
