import { fieldsOf, rowKey } from '~~/core/compare/rows'
import { isUndone, type UndoChoice } from '~~/core/changes/undo'
import type { UndoTable } from '~~/server/views'

// The rows of a transaction that may be undone, as a list that a person can narrow and decide on.

export type UndoTableRow = UndoTable['rows'][number]
/** Decisions by table and key; keys of several columns are one text each, whatever is in them. */
export type UndoDecisions = Record<string, Record<string, UndoChoice>>
export type UndoFilter = 'all' | 'touched' | 'open'

/** A heading with how many of its rows are shown, or a row under it. */
export type UndoLine = { table: UndoTable; row: null; shown: number } | { table: UndoTable; row: UndoTableRow }

export const choiceOf = (decisions: UndoDecisions, table: UndoTable, row: UndoTableRow) => decisions[table.path]?.[rowKey(row.key)]
export const isDone = (decisions: UndoDecisions, table: UndoTable, row: UndoTableRow) => isUndone(row, choiceOf(decisions, table, row))

/** A row that something has touched since and that nobody has decided on. */
export const isOpen = (decisions: UndoDecisions, table: UndoTable, row: UndoTableRow) =>
  row.conflict !== null && row.act !== 'nothing' && choiceOf(decisions, table, row) === undefined

/** @param text is looked for in the keys and in every value, then and now, without regard to case */
export function undoLines(tables: UndoTable[], decisions: UndoDecisions, filter: UndoFilter, text: string): UndoLine[] {
  const wanted = text.trim().toLowerCase()
  const holds = (row: UndoTableRow) =>
    wanted === '' ||
    row.key.some((value) => value.toLowerCase().includes(wanted)) ||
    [row.before, row.after, row.now].some((values) =>
      values?.some((value) => (fieldsOf(value)[0] ?? 'null').toLowerCase().includes(wanted)),
    )
  const passes = (table: UndoTable, row: UndoTableRow) =>
    filter === 'all' || (filter === 'touched' ? row.conflict !== null : isOpen(decisions, table, row))
  return tables.flatMap((table): UndoLine[] => {
    const rows = table.rows.filter((row) => passes(table, row) && holds(row))
    return rows.length === 0 ? [] : [{ table, row: null, shown: rows.length }, ...rows.map((row) => ({ table, row }))]
  })
}

/** The decisions with one more for each of the rows that are listed and can be decided on. */
export function decidedAll(decisions: UndoDecisions, lines: UndoLine[], choice: UndoChoice): UndoDecisions {
  const all: UndoDecisions = { ...decisions }
  for (const { table, row } of lines) {
    if (!row || row.act === 'nothing') continue
    if (all[table.path] === decisions[table.path]) all[table.path] = { ...decisions[table.path] }
    all[table.path]![rowKey(row.key)] = choice
  }
  return all
}
