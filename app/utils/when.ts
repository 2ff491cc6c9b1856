// Instants in the viewer's zone.

const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })
const seconds = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })
const weekday = new Intl.DateTimeFormat('en-GB', { weekday: 'long' })
const dayMonth = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })
const dayMonthYear = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })
const full = new Intl.DateTimeFormat('en-GB', {
  weekday: 'long',
  day: 'numeric',
  month: 'long',
  year: 'numeric',
  hour: '2-digit',
  minute: '2-digit',
  second: '2-digit',
  timeZoneName: 'short',
})

export const clockOf = (at: Date | string) => clock.format(new Date(at))
export const secondsOf = (at: Date | string) => seconds.format(new Date(at))
/** `3 Nov`; with the year wherever that is not this one. */
export function dateOf(at: Date | string, now = new Date()): string {
  const date = new Date(at)
  return (date.getFullYear() === now.getFullYear() ? dayMonth : dayMonthYear).format(date)
}
/** Everything about an instant, for hovers. */
export const fullOf = (at: Date | string) => full.format(new Date(at))

export function startOfDay(at: Date): Date {
  const day = new Date(at)
  day.setHours(0, 0, 0, 0)
  return day
}

/** `today`, `yesterday`, `Sunday`, `3 Nov`, `3 Nov 2025`. */
export function dayOf(at: Date | string, now = new Date()): string {
  const days = Math.round((startOfDay(now).getTime() - startOfDay(new Date(at)).getTime()) / 86_400_000)
  if (days === 0) return 'today'
  if (days === 1) return 'yesterday'
  if (days === -1) return 'tomorrow'
  return days > 1 && days < 7 ? weekday.format(new Date(at)) : dateOf(at, now)
}

/** `yesterday 09:41`. */
export const whenOf = (at: Date | string, now = new Date()) => `${dayOf(at, now)} ${clockOf(at)}`

/** What stands at a tick of a time axis whose ticks are `step` milliseconds apart: a day, or the time within one. */
export function axisLabel(at: number, step: number, now = new Date()): string {
  const time = new Date(at)
  if (step >= 86_400_000 || time.getHours() + time.getMinutes() === 0) return dateOf(time, now)
  return step < 60_000 ? secondsOf(time) : clockOf(time)
}
