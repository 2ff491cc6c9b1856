import type { TableManifest } from '../content/manifest'
import type { ChangeTally } from './log-text'

/** A table that is gone, or of which columns are. */
export interface LostTable {
  schema: string
  name: string
  /** Columns that went; null where all of it did. */
  columns: string[] | null
}

/** Fewer rows than this are no mass of them, however small their table. */
const FEW = 20
/** Of a table's rows, this part is a mass of them. */
const PART = 0.1
/** So many rows are one in any table, and so many in one of which it is not known how many it had. */
const MANY = 100_000
const MANY_OF_UNKNOWN = 1000

/**
 * How many rows a transaction took away from a table, where that is worth a word: not what an application deletes all
 * the time, and not what it puts back in the same transaction.
 *
 * @param had how many rows the table had before, as far as that is known
 * @returns null where it is not worth one; `rows` is null where a table was emptied of nobody knows how many
 */
export function massRemoved([inserted, , deleted, emptied]: ChangeTally, had: number | null): { rows: number | null } | null {
  if (emptied > 0) {
    if (had === null) return inserted > 0 ? null : { rows: null }
    const lost = had - inserted
    return had > 0 && lost > had * PART ? { rows: lost } : null
  }
  const lost = deleted - inserted
  if (lost < FEW) return null
  return lost >= (had === null ? MANY_OF_UNKNOWN : Math.min(MANY, had * PART)) ? { rows: lost } : null
}

/** Columns that a table had and has no more, by their numbers: one that was renamed is still there. */
export function lostColumns(before: Pick<TableManifest, 'columns' | 'numbers'>, now: Pick<TableManifest, 'numbers'>): string[] {
  if (!before.numbers || !now.numbers) return []
  const numbers = new Set(now.numbers)
  return before.columns.filter((_, i) => !numbers.has(before.numbers![i]!))
}

/**
 * What went between two readings of a structure.
 *
 * @param isThere whether a table that was not read, by its object id, is there all the same, under a name that nobody asked for
 */
export function lostBetween(before: TableManifest[], now: TableManifest[], isThere: (oid: number) => boolean): LostTable[] {
  const tablesNow = new Map(now.map((table) => [table.oid, table]))
  return before.flatMap((table): LostTable[] => {
    const { schema, name, oid } = table
    const after = tablesNow.get(oid)
    if (!after) return isThere(oid) ? [] : [{ schema, name, columns: null }]
    const columns = lostColumns(table, after)
    return columns.length > 0 ? [{ schema, name, columns }] : []
  })
}
