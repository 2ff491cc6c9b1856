import { CalendarDateTime, toZoned } from '@internationalized/date'
import { en, type ParsedComponents } from 'chrono-node'
import { zoned, zoneInUse } from './zone'

// Times as people write them, in the time zone in use: what they say of the past, since a log and its points lie there.

/** Whether the day stands before the month where somebody lives; where it is not known, it does. */
export function isDayFirst(locale?: string): boolean {
  const parts = new Intl.DateTimeFormat(locale, { day: 'numeric', month: 'numeric', year: 'numeric' }).formatToParts()
  return parts.findIndex(({ type }) => type === 'day') < parts.findIndex(({ type }) => type === 'month')
}

export type ReadTime = { at: Date; trouble: null } | { at: null; trouble: string }
const trouble = (text: string): ReadTime => ({ at: null, trouble: text })

export const TIMES_AS_IN = 'yesterday 9:41:07, 9:41 pm, 10 minutes ago, last tuesday 8:00, 3 Nov 04:10, 2026-11-24T09:41:07Z'

/**
 * Reads a time that a person has written, or tells why it can't be. It must say a time of day, and all of the text
 * must be understood; what leaves the day or the year open means the last one that has been.
 *
 * @param locale tells in which order days and months are written, as in 3/4/2026; with dots the day is always first
 */
export function readTime(text: string, now = new Date(), locale?: string): ReadTime {
  const written = asIso(text.trim())
  const [found, ...others] = (isDayFirst(locale) ? en.GB : en.casual).parse(written, {
    instant: now,
    timezone: zoned(now).offset / 60_000,
  })
  if (!found || others.length > 0 || found.index !== 0 || found.text.length < written.length)
    return trouble(`This is no time that is understood. As in: ${TIMES_AS_IN}.`)
  if (found.end) return trouble('These are two times. Write one.')
  const { start } = found
  if (!start.isCertain('hour')) return trouble('It does not say at which time of the day.')
  return { at: inPast(timeOf(start), now, start), trouble: null }
}

/** A date of numbers that leaves no doubt, as ISO 8601 has it: with two digits, the year first. */
const asIso = (text: string) =>
  text
    .replace(/^(\d{1,2})\.(\d{1,2})\.(\d{4})(?=$|[\sT,])/, '$3-$2-$1')
    .replace(/^(\d{4})-(\d{1,2})-(\d{1,2})/, (_, year: string, month: string, day: string) =>
      [year, month.padStart(2, '0'), day.padStart(2, '0')].join('-'),
    )

/** The zone in use may have been ahead of UTC by another time on that day than it is now. */
function timeOf(start: ParsedComponents): Date {
  if (start.isCertain('timezoneOffset')) return start.date()
  const part = (name: 'year' | 'month' | 'day' | 'hour' | 'minute' | 'second' | 'millisecond') => start.get(name) ?? 0
  const at = new CalendarDateTime(
    part('year'),
    part('month'),
    part('day'),
    part('hour'),
    part('minute'),
    part('second'),
    part('millisecond'),
  )
  return toZoned(at, zoneInUse.value).toDate()
}

/** What was meant where a part was left open and the nearest such time has not come yet: the one before it. */
function inPast(at: Date, now: Date, is: ParsedComponents): Date {
  if (at <= now || is.isCertain('year')) return at
  const before = is.isCertain('day') || is.isCertain('month') ? { years: 1 } : { days: is.isCertain('weekday') ? 7 : 1 }
  return zoned(at).subtract(before).toDate()
}
