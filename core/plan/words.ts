import { listInWords, ordinalInWords, plural } from '../time/words'
import type { BackupKind, Days, Makes, Times } from './schedule'

export const WEEKDAYS = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'] as const
export const BACKUP_WORD: Record<BackupKind, string> = {
  full: 'full',
  differential: 'differential',
  incremental: 'incremental',
  synthetic: 'synthetic full',
}

const weekday = (day: number) => WEEKDAYS[day - 1] ?? '?'

/** `Monday to Friday`, `the last Friday of each month`. */
export function daysInWords(on: Days): string {
  if (on.of === 'every day') return 'every day'
  if (on.of === 'week') {
    const days = [...on.days].sort((a, b) => a - b)
    return days.join() === '1,2,3,4,5' ? 'Monday to Friday' : days.length === 7 ? 'every day' : listInWords(days.map(weekday))
  }
  if (on.of === 'month') return `the ${ordinalInWords(on.day)} of each month`
  return `the ${on.which === 'last' ? 'last' : ordinalInWords(on.which)} ${weekday(on.weekday)} of each month`
}

/** When a line is due: `every 6 hours`, `Monday and Friday at 02:00`. */
export function timesInWords(times: Times): string {
  if (times.kind === 'every') return times.count === 1 ? `every ${times.unit.slice(0, -1)}` : `every ${times.count} ${times.unit}`
  if (times.kind === 'cron') return `by ${times.expression.trim()}`
  return `${daysInWords(times.on)} at ${listInWords([...times.at].sort())}`
}

/** `a full`, `an incremental`. */
export const withKind = (what: string): string => `${/^[aeiou]/.test(what) ? 'an' : 'a'} ${BACKUP_WORD[what as BackupKind] ?? what}`

/** What a line makes: `a full each time`, `7 points: a full, then differentials`. */
export function makesInWords(makes: Makes): string {
  if (makes.kind === 'each') return `${withKind(makes.what)} each time`
  return `${plural(makes.points, 'point')}: ${withKind(makes.first)}, then ${BACKUP_WORD[makes.rest]}s`
}

/** Where a point stands in its plan: `3 of 7, differential, nightly`. */
export function placeInPlan({ place, of, line }: { place: number; of: number; line: string }, what: BackupKind): string {
  return [...(of > 1 ? [`${place} of ${of}`] : []), BACKUP_WORD[what], line].join(', ')
}
