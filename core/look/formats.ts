import { fieldsOf } from '../compare/rows'
import type { Column } from '../content/manifest'
import { qualified, quoteIdentifier, quoteLiteral } from '../restore/sql'

export const FORMATS = ['sql', 'csv', 'jsonl'] as const
export type Format = (typeof FORMATS)[number]

/** Writes lines of COPY text in an open format. */
export type LineWriter = (line: string) => string

/** RFC 4180, with null as nothing and an empty text as `""`. */
export function csvLine(line: string): string {
  return `${fieldsOf(line).map(csvField).join(',')}\r\n`
}

export const csvHeader = (columns: string[]) => `${columns.map(csvField).join(',')}\r\n`

function csvField(value: string | null): string {
  if (value === null) return ''
  return value === '' || /[",\r\n]/.test(value) ? `"${value.replaceAll('"', '""')}"` : value
}

const INTEGER = /^(smallint|integer|bigint|oid)$/
const DECIMAL = /^(numeric|real|double precision)\b(?!.*\[\])/
const JSON_TYPE = /^jsonb?$/

/**
 * One JSON object a line. Numbers keep every digit; what JSON has no number for (NaN, infinity) is a text, as are
 * all types that JSON does not know, in PostgreSQL's own notation.
 */
export function jsonWriter(columns: string[], types: Pick<Column, 'name' | 'type' | 'base'>[]): LineWriter {
  const kinds = columns.map((column) => {
    const type = types.find(({ name }) => name === column)
    return type?.base ?? type?.type ?? 'text'
  })
  const names = columns.map((column) => JSON.stringify(column))
  return (line) => {
    const fields = columns.length === 0 ? [] : fieldsOf(line)
    return `{${fields.map((value, i) => `${names[i]}:${jsonValue(value, kinds[i]!)}`).join(',')}}\n`
  }
}

function jsonValue(value: string | null, type: string): string {
  if (value === null) return 'null'
  if (type === 'boolean') return value === 't' ? 'true' : 'false'
  if (INTEGER.test(type)) return value
  if (DECIMAL.test(type) && /^-?\d+(\.\d+)?(e[+-]?\d+)?$/i.test(value)) return value
  // A line must stay one line; within a JSON value a line break is white space only.
  if (JSON_TYPE.test(type)) return value.replace(/[\r\n]+/g, ' ')
  return JSON.stringify(value)
}

/** INSERT statements, for picked rows that are to be read and run one by one. */
export function insertWriter(target: { schema: string; name: string }, columns: string[]): LineWriter {
  const list = columns.length === 0 ? '' : ` (${columns.map(quoteIdentifier).join(', ')})`
  const start = `INSERT INTO ${qualified(target.schema, target.name)}${list} OVERRIDING SYSTEM VALUE VALUES (`
  return (line) => {
    if (columns.length === 0) return `INSERT INTO ${qualified(target.schema, target.name)} DEFAULT VALUES;\n`
    return `${start}${fieldsOf(line).map(sqlValue).join(', ')});\n`
  }
}

const sqlValue = (value: string | null) => (value === null ? 'NULL' : quoteLiteral(value))

/** The statement that overwrites columns of one row, told by its key. */
export function updateStatement(
  target: { schema: string; name: string },
  columns: string[],
  row: (string | null)[],
  key: string[],
  overwrite: string[],
): string {
  const valueOf = (column: string) => row[columns.indexOf(column)] ?? null
  const set = overwrite.map((column) => `${quoteIdentifier(column)} = ${sqlValue(valueOf(column))}`).join(', ')
  const where = key.map((column) => `${quoteIdentifier(column)} = ${sqlValue(valueOf(column))}`).join(' AND ')
  return `UPDATE ${qualified(target.schema, target.name)} SET ${set} WHERE ${where};`
}
