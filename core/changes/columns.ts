import type { TableManifest } from '../content/manifest'

/** How a row of one structure of a table becomes one of another. */
export interface Projection {
  /** For each column of the result: where it stands in the row, or -1 for its fill. */
  at: number[]
  /** COPY text of columns that the row does not have yet. */
  fill: string[]
}

/**
 * From columns by their numbers in the source's catalog, which stay when columns are renamed, to others.
 * @returns null when rows stay as they are
 */
export function projectionOf(from: number[], to: number[], fills: string[]): Projection | null {
  const at = to.map((number) => from.indexOf(number))
  if (at.length === from.length && at.every((position, i) => position === i)) return null
  return { at, fill: to.map((_, i) => fills[i] ?? '\\N') }
}

const TEXT = /^(text|character varying(\(\d+\))?)$/
const bare = (type: string) => type.replace(/\(.*?\)/g, '')

/** Whether values keep their text when a column gets another type without its table being written anew. */
export function keepsText(before: string, after: string): boolean {
  return before === after || (TEXT.test(before) && TEXT.test(after)) || bare(before) === bare(after)
}

/** The first column whose type was changed so that its values are written as other text; null when there is none. */
export function retypedColumn(before: TableManifest, now: TableManifest): string | null {
  const types = (table: TableManifest) =>
    new Map(table.columns.map((name, i) => [table.numbers?.[i], table.structure.columns.find((column) => column.name === name)!]))
  const earlier = types(before)
  for (const [number, column] of types(now)) {
    const old = earlier.get(number)
    if (old && !keepsText(old.type, column.type)) return column.name
  }
  return null
}
