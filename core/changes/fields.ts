import type { Projection } from './columns'

// The fields of one row in COPY text, as far as changes need them.

const TAB = 9
const BACKSLASH = 92
const CAPITAL_U = 85

/** The fields of a line, as views of it. */
function fieldsOf(line: Uint8Array): Uint8Array[] {
  const fields: Uint8Array[] = []
  for (let from = 0; ;) {
    const to = line.indexOf(TAB, from)
    if (to < 0) return [...fields, line.subarray(from)]
    fields.push(line.subarray(from, to))
    from = to + 1
  }
}

function joined(fields: Uint8Array[]): Uint8Array {
  const line = new Uint8Array(fields.reduce((sum, part) => sum + part.length, Math.max(0, fields.length - 1)))
  let to = 0
  fields.forEach((part, i) => {
    if (i > 0) line[to++] = TAB
    line.set(part, to)
    to += part.length
  })
  return line
}

/** The fields at some positions of a line, parted by tabs. */
export function keyOf(line: Uint8Array, at: number[]): Uint8Array {
  if (at.length > 1) {
    const fields = fieldsOf(line)
    return joined(at.map((position) => fields[position]!))
  }
  let from = 0
  for (let i = 0; i < at[0]!; i++) from = line.indexOf(TAB, from) + 1
  const to = line.indexOf(TAB, from)
  return line.subarray(from, to < 0 ? line.length : to)
}

/** Whether a line has a value that is not told because it did not change. */
export function isPartial(line: Uint8Array): boolean {
  // A backslash that belongs to a value is always two, or stands before a small letter or an N.
  for (let at = line.indexOf(BACKSLASH); at >= 0; at = line.indexOf(BACKSLASH, at + 2)) if (line[at + 1] === CAPITAL_U) return true
  return false
}

/** A line with the values that it does not tell taken from another one with the same columns. */
export function fill(line: Uint8Array, from: Uint8Array): Uint8Array {
  const before = fieldsOf(from)
  return joined(fieldsOf(line).map((value, i) => (value.length === 2 && isPartial(value) ? before[i]! : value)))
}

/** A row without its newline as other columns. */
export function project(line: Uint8Array, { at, fill: missing }: Projection): Uint8Array {
  const fields = fieldsOf(line)
  const encoder = new TextEncoder()
  return joined(at.map((position, i) => (position < 0 ? encoder.encode(missing[i]!) : fields[position]!)))
}
