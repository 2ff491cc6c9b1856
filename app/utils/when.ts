// Instants in the viewer's zone.

const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })
const seconds = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' })
const weekday = new Intl.DateTimeFormat('en-GB', { weekday: 'long' })
const dayMonth = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })
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
export const dateOf = (at: Date | string) => dayMonth.format(new Date(at))
/** Everything about an instant, for hovers. */
export const fullOf = (at: Date | string) => full.format(new Date(at))

export function startOfDay(at: Date): Date {
  const day = new Date(at)
  day.setHours(0, 0, 0, 0)
  return day
}

/** `today`, `yesterday`, `Sunday`, `3 Nov`. */
export function dayOf(at: Date | string, now = new Date()): string {
  const days = Math.round((startOfDay(now).getTime() - startOfDay(new Date(at)).getTime()) / 86_400_000)
  if (days === 0) return 'today'
  if (days === 1) return 'yesterday'
  if (days === -1) return 'tomorrow'
  return days > 1 && days < 7 ? weekday.format(new Date(at)) : dayMonth.format(new Date(at))
}

/** `yesterday 09:41`. */
export const whenOf = (at: Date | string, now = new Date()) => `${dayOf(at, now)} ${clockOf(at)}`

/** Understands `09:41`, `yesterday 9:41:07`, `3 Nov 04:10` and ISO 8601; undefined for anything else. */
export function readTime(text: string, now = new Date()): Date | undefined {
  const trimmed = text.trim()
  const time = /(?:^|[\sT])(\d{1,2}):(\d{2})(?::(\d{2}))?$/.exec(trimmed)
  const word = trimmed.toLowerCase().replace(/\s*\d{1,2}:\d{2}(:\d{2})?$/, '')
  const names = ['sunday', 'monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday']
  if (time && (word === '' || word === 'today' || word === 'yesterday' || names.includes(word))) {
    const day = startOfDay(now)
    const back = word === 'yesterday' ? 1 : names.includes(word) ? (now.getDay() - names.indexOf(word) + 7) % 7 || 7 : 0
    day.setDate(day.getDate() - back)
    day.setHours(Number(time[1]), Number(time[2]), Number(time[3] ?? 0))
    return day
  }
  if (!/\d/.test(trimmed)) return undefined
  const withYear = /^\d{1,2} [a-z]{3,}( \d{1,2}:\d{2}(:\d{2})?)?$/i.test(trimmed)
    ? trimmed.replace(/^(\d{1,2} [a-z]+)/i, `$1 ${now.getFullYear()}`)
    : trimmed
  const parsed = new Date(withYear)
  return Number.isNaN(parsed.getTime()) ? undefined : parsed
}

/** What stands at a tick of a time axis whose ticks are `step` milliseconds apart: a day, or the time within one. */
export function axisLabel(at: number, step: number): string {
  const time = new Date(at)
  if (step >= 86_400_000 || time.getHours() + time.getMinutes() === 0) return dateOf(time)
  return step < 60_000 ? secondsOf(time) : clockOf(time)
}
