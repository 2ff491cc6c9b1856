import type { TableManifest } from '../content/manifest'
import { retypedColumn } from './columns'
import { keepsShape } from './shapes'

/**
 * Why the server writes a table anew, as bits of `pg_event_trigger_table_rewrite_reason`: another persistence, a
 * default that is reckoned for each row, another type of a column, another access method.
 */
export const REWRITE = { persistence: 1, default: 2, type: 4, access: 8 } as const

const numberOf = (table: TableManifest, column: string) => table.numbers?.[table.columns.indexOf(column)]

/** Which columns tell a table's rows apart in the log, by the identity that the source writes. */
function identityOf(table: TableManifest): string {
  if (table.identityKey) return table.identityKey.join()
  return (table.key ?? []).map((column) => numberOf(table, column)).join()
}

/** A column whose values have another text by what its type has become. */
function reshapedColumn(before: TableManifest, now: TableManifest): string | null {
  for (const [i, column] of now.columns.entries()) {
    const was = before.numbers?.indexOf(now.numbers![i]!) ?? -1
    if (was >= 0 && !keepsShape(before.shapes?.[was] ?? null, now.shapes?.[i] ?? null)) return column
  }
  return null
}

/** A column that was reckoned from others before and holds values of its own now. */
const keptColumn = (before: TableManifest, now: TableManifest) =>
  now.structure.columns.find(
    ({ name, generated }) => !generated && before.structure.columns.some((column) => column.name === name && column.generated),
  )?.name ?? null

const newColumns = (before: TableManifest, now: TableManifest) => now.columns.filter((_, i) => !before.numbers?.includes(now.numbers![i]!))

/**
 * Whether the rows were written anew so that they may be others than before.
 *
 * @param reasons what the source told of it (bits of `REWRITE`); null where it tells nothing. Then a new file of the
 *   table with another version of a column's line in the catalog means it: what only moves rows to a new file
 *   (a vacuum, a cluster, a truncation) leaves the columns' lines alone.
 */
function isRewritten(before: TableManifest, now: TableManifest, reasons: number | null): boolean {
  const grew = newColumns(before, now).length > 0
  if (reasons !== null) return (reasons & REWRITE.type) !== 0 || ((reasons & REWRITE.default) !== 0 && grew)
  if (before.filenode === now.filenode) return false
  const versionOf = (table: TableManifest) => new Map(table.numbers?.map((number, i) => [number, table.versions?.[i]]))
  const earlier = versionOf(before)
  return grew || [...versionOf(now)].some(([number, version]) => earlier.has(number) && earlier.get(number) !== version)
}

/**
 * Why rows of a table as it was can't be read as rows of it as it is now, in a sentence; null when they can. These are
 * the changes of content that a log of rows does not tell.
 */
export function brokenBy(before: TableManifest, now: TableManifest, reasons: number | null): string | null {
  if (identityOf(before) !== identityOf(now)) return 'What tells its rows apart was changed.'
  const retyped = retypedColumn(before, now)
  if (retyped) return `The type of its column ${retyped} was changed, which the log does not tell row by row.`
  const reshaped = reshapedColumn(before, now)
  if (reshaped) return `The type of its column ${reshaped} was changed in itself, so that values are written otherwise.`
  const kept = keptColumn(before, now)
  if (kept) return `Its column ${kept} was reckoned from others before, and keeps values of its own now.`
  if (isRewritten(before, now, reasons)) return 'Its rows were written anew with the change of its structure.'
  return null
}
