import { wallOf } from '~~/core/time/zone'
import { startOfDay, zoned, zoneInUse } from './zone'

// Times in the zone in use.

const FORMATS = {
  clock: { hour: '2-digit', minute: '2-digit' },
  seconds: { hour: '2-digit', minute: '2-digit', second: '2-digit' },
  weekday: { weekday: 'long' },
  dayMonth: { day: 'numeric', month: 'short' },
  dayMonthYear: { day: 'numeric', month: 'short', year: 'numeric' },
  dayMonthYearClock: { day: 'numeric', month: 'short', year: 'numeric', hour: '2-digit', minute: '2-digit' },
  longDay: { weekday: 'long', day: 'numeric', month: 'long' },
  full: {
    weekday: 'long',
    day: 'numeric',
    month: 'long',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    timeZoneName: 'short',
  },
} satisfies Record<string, Intl.DateTimeFormatOptions>
const made = new Map<string, Intl.DateTimeFormat>()
function inWords(at: Date | string | number, how: keyof typeof FORMATS, zone = zoneInUse.value): string {
  const key = `${how} ${zone}`
  if (!made.has(key)) made.set(key, new Intl.DateTimeFormat('en-GB', { ...FORMATS[how], timeZone: zone }))
  return made.get(key)!.format(new Date(at))
}

export const clockOf = (at: Date | string) => inWords(at, 'clock')
export const secondsOf = (at: Date | string) => inWords(at, 'seconds')
/** `3 Nov`; with the year wherever that is not this one. */
export const dateOf = (at: Date | string, now = new Date()) => inWords(at, zoned(at).year === zoned(now).year ? 'dayMonth' : 'dayMonthYear')
/** `Friday 27 November`. */
export const longDayOf = (at: Date | string | number) => inWords(at, 'longDay')
/** Everything about a moment, for hovers. */
export const fullOf = (at: Date | string) => inWords(at, 'full')

/** `today`, `yesterday`, `Sunday`, `3 Nov`, `3 Nov 2025`. */
export function dayOf(at: Date | string, now = new Date()): string {
  const days = Math.round((startOfDay(now).getTime() - startOfDay(new Date(at)).getTime()) / 86_400_000)
  if (days === 0) return 'today'
  if (days === 1) return 'yesterday'
  if (days === -1) return 'tomorrow'
  return days > 1 && days < 7 ? inWords(at, 'weekday') : dateOf(at, now)
}

/** `yesterday 09:41`. */
export const whenOf = (at: Date | string, now = new Date()) => `${dayOf(at, now)} ${clockOf(at)}`

/** What stands at a tick of a time axis whose ticks are `step` milliseconds apart: a day, or the time within one. */
export function axisLabel(at: number, step: number, now = new Date()): string {
  const time = new Date(at)
  const { hour, minute } = zoned(at)
  if (step >= 86_400_000 || hour + minute === 0) return dateOf(time, now)
  return step < 60_000 ? secondsOf(time) : clockOf(time)
}

/** What the clock of a zone shows. */
export const clockIn = (zone: string, at: Date | number) => inWords(at, 'clock', zone)
/** `3 Nov`, by the calendar of a zone. */
export const dayIn = (zone: string, at: Date | number) => inWords(at, 'dayMonth', zone)

/** `+01:00` */
function offsetText(zone: string, at: number): string {
  const minutes = Math.round((wallOf(zone, at) - at) / 60_000)
  const two = (value: number) => String(Math.trunc(value)).padStart(2, '0')
  return `${minutes < 0 ? '−' : '+'}${two(Math.abs(minutes) / 60)}:${two(Math.abs(minutes) % 60)}`
}

/** A time of a plan: where its zone shows another than the viewer’s, in both, with their offsets. */
export function timeOfPlan(at: Date | string, zone: string, now = new Date()): string {
  const ms = new Date(at).getTime()
  const here = zoneInUse.value
  if (wallOf(zone, ms) === wallOf(here, ms)) return whenOf(new Date(ms), now)
  const [there, mine] = [zone, here].map((of) => `${inWords(ms, 'dayMonthYearClock', of)} ${offsetText(of, ms)}`)
  return `${there} (here ${mine})`
}

/** A time as the clock of a zone shows it, as a field of the browser writes it: `2026-11-29T14:00`. */
export const wallText = (zone: string, at: string) => new Date(wallOf(zone, Date.parse(at))).toISOString().slice(0, 16)
