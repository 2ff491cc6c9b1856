import type { TableManifest } from './manifest'

const INTEGERS = ['smallint', 'integer', 'bigint']

/** Position of the key among the columns of rows, where it is a single column of an integer type; else -1. */
export function singleIntegerKey({ key, structure, columns }: Pick<TableManifest, 'key' | 'structure' | 'columns'>): number {
  const [column, ...more] = key ?? []
  if (column === undefined || more.length > 0) return -1
  const type = structure.columns.find(({ name }) => name === column)?.type
  return type && INTEGERS.includes(type) ? columns.indexOf(column) : -1
}
