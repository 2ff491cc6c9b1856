import { textOf } from '../content/text'

/** The fields of one line of COPY text; null for `\N`. */
export function fieldsOf(line: string): (string | null)[] {
  return line.split('\t').map((field) => (field === '\\N' ? null : field.includes('\\') ? unescape(field) : field))
}

/** One text for each key, of however many columns and whatever is in them. */
export const rowKey = (key: string[]): string => JSON.stringify(key)

const ESCAPES: Record<string, string> = { b: '\b', f: '\f', n: '\n', r: '\r', t: '\t', v: '\v' }

function unescape(field: string): string {
  return field.replace(/\\([0-7]{1,3}|x[0-9A-Fa-f]{1,2}|[\s\S])/g, (_, code: string) => {
    if (/^[0-7]/.test(code)) return String.fromCharCode(Number.parseInt(code, 8))
    if (/^x./.test(code)) return String.fromCharCode(Number.parseInt(code.slice(1), 16))
    return ESCAPES[code] ?? code
  })
}

export interface RowDifference {
  mark: 'gone' | 'changed' | 'new'
  key: string
  before: (string | null)[] | null
  now: (string | null)[] | null
}

export interface RowComparison {
  same: number
  gone: number
  changed: number
  fresh: number
  /** How many of the changed rows differ in the column at each position. */
  byColumn: Record<number, number>
  /** The first differences by key; `limit` of them at most. */
  rows: RowDifference[]
}

const keySeparator = '\u0001'

/**
 * Compares lines of COPY text by key: the columns at `keyAt`, or the whole line where a table has no key
 * (then rows are only gone or new, and equal rows count one by one).
 */
export function compareRows(earlier: Iterable<string>, now: Iterable<string>, keyAt: number[] | null, limit: number): RowComparison {
  const keyOf = keyAt === null ? (line: string) => line : (line: string) => rawFields(line, keyAt).join(keySeparator)
  const before = new Map<string, string[]>()
  for (const line of earlier) {
    const key = keyOf(line)
    const lines = before.get(key)
    if (lines) lines.push(line)
    else before.set(key, [line])
  }
  const comparison: RowComparison = { same: 0, gone: 0, changed: 0, fresh: 0, byColumn: {}, rows: [] }
  const differences: { mark: RowDifference['mark']; key: string; before?: string; now?: string }[] = []
  for (const line of now) {
    const key = keyOf(line)
    const old = before.get(key)?.pop()
    if (old === line) comparison.same++
    else if (old === undefined) {
      comparison.fresh++
      differences.push({ mark: 'new', key, now: line })
    } else {
      comparison.changed++
      countColumns(comparison.byColumn, old, line)
      differences.push({ mark: 'changed', key, before: old, now: line })
    }
  }
  for (const [key, lines] of before) {
    comparison.gone += lines.length
    for (const line of lines) differences.push({ mark: 'gone', key, before: line })
  }
  differences.sort((a, b) => compareKeys(a.key, b.key))
  comparison.rows = differences.slice(0, limit).map(({ mark, key, before: a, now: b }) => ({
    mark,
    key: key.replaceAll(keySeparator, ', '),
    before: a === undefined ? null : fieldsOf(a),
    now: b === undefined ? null : fieldsOf(b),
  }))
  return comparison
}

function countColumns(byColumn: Record<number, number>, earlier: string, now: string): void {
  const [before, after] = [earlier.split('\t'), now.split('\t')]
  for (let i = 0; i < after.length; i++) if (before[i] !== after[i]) byColumn[i] = (byColumn[i] ?? 0) + 1
}

export function rawFields(line: string, at: number[]): string[] {
  const fields = line.split('\t')
  return at.map((i) => fields[i]!)
}

/** Numbers by value, all else by text, part by part. */
export function compareKeys(a: string, b: string): number {
  if (a === b) return 0
  const [left, right] = [a.split(keySeparator), b.split(keySeparator)]
  for (let i = 0; i < left.length; i++) {
    const [x, y] = [left[i]!, right[i] ?? '']
    if (x === y) continue
    const numeric = /^-?\d{1,15}$/.test(x) && /^-?\d{1,15}$/.test(y)
    return numeric ? Number(x) - Number(y) : x < y ? -1 : 1
  }
  return 0
}

/** The lines of chunks of whole rows. */
export function* linesOf(chunks: Iterable<Uint8Array>): Generator<string> {
  for (const bytes of chunks) {
    const text = textOf(bytes)
    for (let from = 0; from < text.length;) {
      const end = text.indexOf('\n', from)
      yield text.slice(from, end)
      from = end + 1
    }
  }
}
