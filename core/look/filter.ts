import type { Column } from '../content/manifest'
import { copyText } from '../content/copy-text'
import { fieldsOf } from '../compare/rows'
import { VesselError } from '../errors'

export const OPS = ['=', '≠', '<', '≤', '>', '≥', 'contains', 'is null', 'is not null'] as const
export type Op = (typeof OPS)[number]

/** One condition on a column; all conditions of a filter have to hold. */
export interface Condition {
  column: string
  op: Op
  value: string
}

/** Conditions out of the text of an address; what is none is left out. */
export function readFilter(text: string): Condition[] {
  try {
    const given: unknown = JSON.parse(text)
    return Array.isArray(given) ? given.filter(isCondition).map(({ column, op, value }) => ({ column, op, value })) : []
  } catch {
    return []
  }
}

function isCondition(given: unknown): given is Condition {
  const { column, op, value } = (given ?? {}) as Partial<Record<keyof Condition, unknown>>
  return typeof column === 'string' && typeof value === 'string' && OPS.includes(op as Op)
}

/** How the values of a type are ordered and written. */
export type Ordering = 'number' | 'time' | 'boolean' | 'uuid' | 'text'

const ORDERINGS: [RegExp, Ordering][] = [
  [/^(smallint|integer|bigint|numeric|real|double precision|money|oid)\b(?!.*\[\])/, 'number'],
  [/^(date|timestamp)\b(?!.*\[\])/, 'time'],
  [/^boolean$/, 'boolean'],
  [/^uuid$/, 'uuid'],
]

export function orderingOf(type: string): Ordering {
  return ORDERINGS.find(([pattern]) => pattern.test(type))?.[1] ?? 'text'
}

/** A condition that is ready to be asked of rows; plain data, so that it can go to another thread. */
export interface Ready {
  at: number
  op: Op
  ordering: Ordering
  /** The value in the canonical text of its type. */
  value: string
}

/**
 * Makes conditions ready for rows that hold `columns` in their order.
 * @throws VesselError `filter_column`, `filter_value` for what does not fit the table.
 */
export function readyFilter(conditions: Condition[], columns: string[], types: Pick<Column, 'name' | 'type' | 'base'>[]): Ready[] {
  return conditions.map(({ column, op, value }) => {
    const at = columns.indexOf(column)
    const found = types.find(({ name }) => name === column)
    const type = found?.base ?? found?.type
    if (at < 0 || type === undefined)
      throw bad('filter_column', `There is no column ${column} in these rows.`, `Choose one of ${columns.slice(0, 6).join(', ')}.`)
    const ordering = orderingOf(type)
    if (op === 'is null' || op === 'is not null') return { at, op, ordering, value: '' }
    if (op === 'contains') return { at, op, ordering: 'text', value: value.toLowerCase() }
    const canonical = canonicalValue(value, type, ordering)
    if (canonical === undefined) throw bad('filter_value', `“${value}” is no ${type}, as ${column} is.`, EXAMPLE[ordering])
    return { at, op, ordering, value: canonical }
  })
}

const EXAMPLE: Record<Ordering, string> = {
  number: 'Write a number, such as 42 or -1.5.',
  time: 'Write a date or time, such as 2026-11-24 or 2026-11-24 09:41:07.',
  boolean: 'Write true or false.',
  uuid: 'Write 32 hex digits with hyphens.',
  text: 'Write a text.',
}

function bad(code: string, what: string, next: string): VesselError {
  return new VesselError(code, { what, touched: 'Nothing was read.', next, status: 400 })
}

/** A typed value as COPY writes it, or undefined when it is none of the type. */
export function canonicalValue(text: string, type: string, ordering: Ordering): string | undefined {
  const value = text.trim()
  if (ordering === 'text') return text
  if (ordering === 'uuid') return /^[0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12}$/i.test(value) ? value.toLowerCase() : undefined
  if (ordering === 'boolean') return /^(t|true|yes)$/i.test(value) ? 't' : /^(f|false|no)$/i.test(value) ? 'f' : undefined
  if (ordering === 'number') {
    if (/^(smallint|integer|bigint|oid)/.test(type)) return /^[+-]?\d{1,19}$/.test(value) ? String(BigInt(value)) : undefined
    return /^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?$/i.test(value) || /^(NaN|-?Infinity)$/.test(value) ? value : undefined
  }
  return canonicalTime(value, type)
}

/** Times without a zone are taken as they are written; those with one are brought to UTC, in which rows are kept. */
function canonicalTime(value: string, type: string): string | undefined {
  if (/^-?infinity$/i.test(value)) return value.toLowerCase()
  const match = /^(\d{4,6}-\d{2}-\d{2})(?:[ T](\d{2}:\d{2}(?::\d{2}(?:\.\d{1,6})?)?))?\s*(Z|[+-]\d{2}(?::?\d{2})?)?( BC)?$/i.exec(value)
  if (!match) return undefined
  const [, date, clock = '00:00:00', zone, era = ''] = match
  const moment = new Date(`${date!.padStart(4, '0')}T${clock.length === 5 ? `${clock}:00` : clock}Z`)
  if (date!.length === 10 && Number.isNaN(moment.getTime())) return undefined
  if (type === 'date') return date! + era
  if (!zone || /^Z$/i.test(zone) || !type.includes('with time zone')) return `${date} ${clock}${era}`
  const [, sign, hours, minutes = '0'] = /([+-])(\d{2}):?(\d{2})?/.exec(zone)!
  const shift = (sign === '-' ? 1 : -1) * (Number(hours) * 60 + Number(minutes)) * 60_000
  const moved = new Date(moment.getTime() + shift).toISOString().replace('T', ' ').slice(0, 19)
  return moved + (/\.\d+/.exec(clock)?.[0] ?? '')
}

/** Orders two canonical values of a column. */
export function compareValues(a: string, b: string, ordering: Ordering): number {
  if (a === b) return 0
  if (ordering === 'number') return compareNumbers(a, b)
  if (ordering === 'time') return compareText(timeKey(a), timeKey(b))
  return compareText(a, b)
}

const compareText = (a: string, b: string) => (a < b ? -1 : a > b ? 1 : 0)

/** Exact for numbers of any length; PostgreSQL puts NaN after all others. */
function compareNumbers(a: string, b: string): number {
  const [x, y] = [Number(a.replace(/[$,]/g, '')), Number(b.replace(/[$,]/g, ''))]
  if (Number.isNaN(x) || Number.isNaN(y)) return Number(Number.isNaN(x)) - Number(Number.isNaN(y))
  if (x !== y) return x < y ? -1 : 1
  if (!/^-?\d+(\.\d+)?$/.test(a) || !/^-?\d+(\.\d+)?$/.test(b)) return 0
  const scale = Math.max(fraction(a).length, fraction(b).length)
  const whole = (text: string) => BigInt(text.replace('.', '') + '0'.repeat(scale - fraction(text).length))
  const [left, right] = [whole(a), whole(b)]
  return left < right ? -1 : left > right ? 1 : 0
}

const fraction = (text: string) => (text.includes('.') ? text.slice(text.indexOf('.') + 1) : '')

/** A text that sorts as the time does: infinities outermost, years before Christ backwards. */
function timeKey(time: string): string {
  if (time === 'infinity') return '9'
  if (time === '-infinity') return '0'
  const bare = time.replace(/\+00$/, '').replace(/ BC$/, '')
  const [year, ...rest] = bare.split('-')
  const before = time.endsWith(' BC')
  const padded = before ? String(10_000_000 - Number(year)).padStart(8, '0') : year!.padStart(8, '0')
  const clock = rest.join('-')
  return `${before ? '1' : '2'}${padded}-${clock.includes(' ') ? clock : `${clock} 00:00:00`}`
}

const HOLDS: Record<Exclude<Op, 'contains' | 'is null' | 'is not null'>, (order: number) => boolean> = {
  '=': (order) => order === 0,
  '≠': (order) => order !== 0,
  '<': (order) => order < 0,
  '≤': (order) => order <= 0,
  '>': (order) => order > 0,
  '≥': (order) => order >= 0,
}

/** Whether a line of COPY text satisfies every condition. As in SQL, null satisfies none but `is null`. */
export function filterOf(filter: Ready[]): (line: string) => boolean {
  return (line) => {
    if (filter.length === 0) return true
    const fields = line.split('\t')
    return filter.every(({ at, op, value, ordering }) => {
      const raw = fields[at]!
      if (op === 'is null' || op === 'is not null') return (raw === '\\N') === (op === 'is null')
      if (raw === '\\N') return false
      const field = raw.includes('\\') ? fieldsOf(raw)[0]! : raw
      if (op === 'contains') return field.toLowerCase().includes(value)
      return HOLDS[op](compareValues(field, value, ordering))
    })
  }
}

/** A text that every line that satisfies the filter holds, to pass over what does not hold it without reading rows. */
export function needleOf(filter: Ready[]): string | null {
  const exact = filter.find(({ op, ordering }) => op === '=' && (ordering === 'text' || ordering === 'uuid'))
  return exact ? copyText(exact.value) : null
}

/** The range of an integer key that a filter leaves, where the key is its first column. */
export function keyRangeOf(filter: Ready[], keyAt: number): { min: bigint | null; max: bigint | null } {
  const range: { min: bigint | null; max: bigint | null } = { min: null, max: null }
  for (const { at, op, value } of filter) {
    if (at !== keyAt || !/^-?\d+$/.test(value)) continue
    const key = BigInt(value)
    if ((op === '=' || op === '≥' || op === '>') && (range.min === null || key > range.min)) range.min = key
    if ((op === '=' || op === '≤' || op === '<') && (range.max === null || key < range.max)) range.max = key
  }
  return range
}
