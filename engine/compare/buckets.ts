import { bytesOf } from '../../core/content/text'
import { createHash } from 'node:crypto'
import { fieldsOf, linesOf } from '../../core/compare/rows'
import { singleIntegerKey } from '../../core/content/keys'
import type { TableManifest } from '../../core/content/manifest'
import { quoteIdentifier, quoteLiteral } from '../../core/restore/sql'

// Checksums of key ranges, taken by the source in SQL and by us over stored rows, so that only ranges that differ
// travel. A row's part is the first 60 bits of the MD5 of its values as literals; a range's is their sum.

/** How rows are parted into ranges: by an integer key, by the hash of any other, or all in one where there is no key. */
export type Ranges = { by: 'integer'; at: number; width: number } | { by: 'hash'; at: number[]; mask: number } | { by: 'all' }

const MOST_ROWS = 2000
/** Rows of a range travel together, so that there are fewer of wide ones. */
const MOST_BYTES = 4 * 1024 * 1024
const MOST_HASHED = 1 << 14

const rowsInRange = ({ rows, bytes }: TableManifest) =>
  Math.max(1, Math.min(MOST_ROWS, Math.floor((MOST_BYTES * rows) / Math.max(1, bytes))))

/** Ranges of about two thousand rows each, or of some megabytes. */
export function rangesOf(table: TableManifest): Ranges {
  const at = singleIntegerKey(table)
  if (at >= 0) return { by: 'integer', at, width: widthOf(table) }
  if (!table.key) return { by: 'all' }
  let hashed = 1
  while (hashed < MOST_HASHED && hashed * rowsInRange(table) < table.rows) hashed *= 2
  return { by: 'hash', at: table.key.map((column) => table.columns.indexOf(column)), mask: hashed - 1 }
}

function widthOf(table: TableManifest): number {
  const keys = table.chunks.flatMap(({ keys: range }) => (range ? [BigInt(range[0]), BigInt(range[1])] : []))
  if (keys.length === 0) return MOST_ROWS
  const [least, most] = keys.reduce(([a, b], key) => [key < a ? key : a, key > b ? key : b], [keys[0]!, keys[0]!])
  const ranges = BigInt(Math.max(1, Math.ceil(table.rows / rowsInRange(table))))
  return Math.max(1, Number((most - least) / ranges + 1n))
}

// A function of SQL takes a hundred arguments at most.
const ARGUMENTS = 50

function literals(columns: string[]): string {
  const parts: string[] = []
  for (let from = 0; from < columns.length; from += ARGUMENTS) {
    const some = columns.slice(from, from + ARGUMENTS)
    parts.push(`format(${quoteLiteral(some.map(() => '%L').join(','))}, ${some.map(quoteIdentifier).join(', ')})`)
  }
  return parts.length > 0 ? parts.join(` || ',' || `) : `''`
}

/** The bytes in which a text comes to us, whatever the encoding of the database. */
const asWeReadIt = (text: string) => `convert_to(${text}, pg_client_encoding())`

/** The range of a row, as SQL. */
export function rangeSql(table: TableManifest, ranges: Ranges): string {
  if (ranges.by === 'all') return '0::bigint'
  if (ranges.by === 'integer') return `floor(${quoteIdentifier(table.columns[ranges.at]!)}::numeric / ${ranges.width})::bigint`
  const key = ranges.at.map((at) => table.columns[at]!)
  return `(('x' || substr(md5(${asWeReadIt(literals(key))}), 1, 8))::bit(32)::int & ${ranges.mask})::bigint`
}

/** A query for the range, count, bytes and sum of every range of a table. */
export function sumsSql(table: TableManifest, ranges: Ranges, name: string): string {
  // With an offset the text of each row is made once, and not for either sum.
  return `select range, count(*)::int as rows, sum(octet_length(line))::text as bytes,
      sum(('x' || substr(md5(${asWeReadIt('line')}), 1, 15))::bit(60)::bigint)::text as sum
    from (select ${rangeSql(table, ranges)}::text as range, ${literals(table.columns)} as line from only ${name} offset 0) lines group by 1`
}

/** As the server writes a literal. */
function literal(value: string | null): string {
  if (value === null) return 'NULL'
  const doubled = value.replaceAll("'", "''")
  return value.includes('\\') ? `E'${doubled.replaceAll('\\', '\\\\')}'` : `'${doubled}'`
}

const md5 = (text: string) => createHash('md5').update(bytesOf(text)).digest('hex')

export function rangeOfRow(fields: (string | null)[], ranges: Ranges): string {
  if (ranges.by === 'all') return '0'
  if (ranges.by === 'hash')
    return String(Number.parseInt(md5(ranges.at.map((at) => literal(fields[at]!)).join(',')).slice(0, 8), 16) & ranges.mask)
  return rangeOfKey(fields[ranges.at]!, ranges.width)
}

export function rangeOfKey(text: string, rangeWidth: number): string {
  const [key, width] = [BigInt(text), BigInt(rangeWidth)]
  const floor = key / width
  return String(key < 0n && key % width !== 0n ? floor - 1n : floor)
}

/** Range, count and sum of the rows of a chunk. */
export function sumsOf(bytes: Uint8Array, ranges: Ranges): [range: string, rows: number, sum: string][] {
  const sums = new Map<string, [number, bigint]>()
  for (const line of linesOf([bytes])) {
    const fields = fieldsOf(line)
    const range = rangeOfRow(fields, ranges)
    const sum = sums.get(range) ?? [0, 0n]
    sums.set(range, [sum[0] + 1, sum[1] + BigInt(`0x${md5(fields.map(literal).join(',')).slice(0, 15)}`)])
  }
  return [...sums].map(([range, [rows, sum]]) => [range, rows, String(sum)])
}
