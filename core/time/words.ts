// Figures as people say them. Everything here is pure: the clock and the zone are given by the caller.

const UNITS = ['B', 'KB', 'MB', 'GB', 'TB', 'PB']

/** Bytes in decimal units with three significant figures at most: `41.2 GB`. */
export function bytesInWords(bytes: number): string {
  let value = bytes
  let unit = 0
  while (value >= 999.5 && unit < UNITS.length - 1) {
    value /= 1000
    unit++
  }
  const digits = unit === 0 || value >= 99.95 ? 0 : 1
  return `${value.toFixed(digits).replace(/\.0$/, '')} ${UNITS[unit]}`
}

/** A duration in milliseconds in natural units, the two largest at most: `2 min 27 s`, `1.4 s`, `60 h`. */
export function durationInWords(ms: number): string {
  const seconds = ms / 1000
  if (seconds < 0.0995) return `${Math.max(0, Math.round(ms))} ms`
  if (seconds < 9.95) return `${seconds.toFixed(1)} s`
  if (seconds < 59.5) return `${Math.round(seconds)} s`
  const minutes = seconds / 60
  if (minutes < 9.95) return twoUnits(seconds, 60, 'min', 's')
  if (minutes < 59.5) return `${Math.round(minutes)} min`
  const hours = minutes / 60
  if (hours < 9.95) return twoUnits(minutes, 60, 'h', 'min')
  if (hours < 71.5) return `${Math.round(hours)} h`
  return `${Math.round(hours / 24)} days`
}

function twoUnits(value: number, base: number, large: string, small: string): string {
  const rounded = Math.round(value)
  const rest = rounded % base
  const whole = `${(rounded - rest) / base} ${large}`
  return rest === 0 ? whole : `${whole} ${rest} ${small}`
}

/** How long ago, or how long until: `3 days ago`, `yesterday` is left to `dayInWords`. */
export function agoInWords(at: Date, now: Date): string {
  const ms = now.getTime() - at.getTime()
  if (Math.abs(ms) < 1500) return 'just now'
  return ms > 0 ? `${durationInWords(ms)} ago` : `in ${durationInWords(-ms)}`
}

export function countInWords(count: number): string {
  return count.toLocaleString('en-GB')
}

const SMALL = ['no', 'one', 'two', 'three', 'four', 'five', 'six', 'seven', 'eight', 'nine', 'ten', 'eleven', 'twelve']

/** Small numbers as words, for sentences. */
export function numberInWords(count: number): string {
  return SMALL[count] ?? countInWords(count)
}

export function plural(count: number, singular: string, many = `${singular}s`): string {
  return `${countInWords(count)} ${count === 1 ? singular : many}`
}

/** `rows, objects and files` */
export const listInWords = (parts: string[]): string =>
  parts.length > 1 ? `${parts.slice(0, -1).join(', ')} and ${parts.at(-1)}` : (parts[0] ?? '')

/** `1st`, `2nd`, `11th`. */
export function ordinalInWords(count: number): string {
  const [unit, ten] = [count % 10, Math.floor(count / 10) % 10]
  const ending = ten === 1 ? undefined : ({ 1: 'st', 2: 'nd', 3: 'rd' } as Record<number, string>)[unit]
  return `${count}${ending ?? 'th'}`
}

export function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1)
}
