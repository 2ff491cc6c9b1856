/** A row as a transaction left it and as it was, by the columns of its table; null where there was none. */
export interface TouchedRow {
  key: string[]
  before: string[] | null
  after: string[] | null
  now: string[] | null
}

export type UndoAct = 'restore' | 'remove' | 'set back' | 'nothing'
/** What a person may decide where something else has touched the row since. */
export type UndoChoice = 'undo' | 'leave'

export interface UndoRow extends TouchedRow {
  act: UndoAct
  /** Positions of the columns that are set back. */
  columns: number[]
  /** Why it can't be undone without undoing something later as well; null when it can. */
  conflict: string | null
}

const same = (a: string[] | null, b: string[] | null) =>
  a === b || (a !== null && b !== null && a.length === b.length && a.every((value, i) => value === b[i]))

/**
 * What undoes one row of a transaction and leaves all that came after it. Where a later change stands in the way,
 * that is a conflict for a person to decide; changes of other columns are none.
 */
export function undoRow(row: TouchedRow): UndoRow {
  const { before, after, now } = row
  const all = (before ?? after ?? []).map((_, i) => i)
  const result = (act: UndoAct, columns: number[], conflict: string | null = null): UndoRow => ({ ...row, act, columns, conflict })
  if (before === null && after === null) return result('nothing', [])
  if (same(before, now)) return result('nothing', [])
  if (before === null) {
    if (now === null) return result('nothing', [])
    return result('remove', [], same(after, now) ? null : 'It was inserted by this transaction and has been changed since.')
  }
  if (after === null)
    return now === null
      ? result('restore', all)
      : result(
          'set back',
          all.filter((i) => now[i] !== before[i]),
          'A row with this key has been inserted since.',
        )
  const changed = all.filter((i) => before[i] !== after[i])
  if (now === null) return result('restore', all, 'It has been deleted since.')
  const later = changed.filter((i) => now[i] !== after[i] && now[i] !== before[i])
  const columns = changed.filter((i) => now[i] !== before[i])
  if (columns.length === 0) return result('nothing', [])
  return result('set back', columns, later.length > 0 ? 'The same columns have been changed since.' : null)
}

/** The row as it is to be once it is undone. */
export function undone(row: UndoRow): string[] | null {
  if (row.act === 'nothing') return row.now
  if (row.act === 'remove') return null
  if (row.act === 'restore' || row.now === null) return row.before
  return row.now.map((value, i) => (row.columns.includes(i) ? row.before![i]! : value))
}

/** Whether a row is undone, by itself or because a person decided so. */
export const isUndone = (row: UndoRow, choice: UndoChoice | undefined): boolean =>
  row.act !== 'nothing' && (row.conflict === null ? choice !== 'leave' : choice === 'undo')
