import type { TableManifest } from '../../core/content/manifest'
import { fieldsOf, rawFields } from '../../core/compare/rows'
import { compareValues, orderingOf } from '../../core/look/filter'
import type { Store } from '../store/store'
import { chunkRows } from './chunk-rows'
import type { RowAt } from './key-order'

// Keys of any type are sorted in memory, so only of tables that fit there.
const MOST_BYTES = 96 * 1024 * 1024
const MOST_ROWS = 400_000
const CACHED = 4
const cache = new Map<string, Promise<RowAt[]>>()

/** Whether a table with a key that is no single integer is small enough to be put in order by reading it whole. */
export const canSort = ({ key, rows, bytes }: TableManifest) => key !== null && rows > 0 && rows <= MOST_ROWS && bytes <= MOST_BYTES

/** All rows of a table by its key, whatever its type; by text in the order of its bytes. */
export function sortedRows(store: Store, table: TableManifest): Promise<RowAt[]> {
  const id = `${store.id} ${table.path} ${table.fingerprint}`
  const known = cache.get(id)
  if (known) return known
  const sorting = sort(store, table)
  cache.set(id, sorting)
  sorting.catch(() => cache.delete(id))
  if (cache.size > CACHED) cache.delete(cache.keys().next().value!)
  return sorting
}

async function sort(store: Store, table: TableManifest): Promise<RowAt[]> {
  const at = table.key!.map((column) => table.columns.indexOf(column))
  const orderings = table.key!.map((column) => {
    const described = table.structure.columns.find(({ name }) => name === column)
    return orderingOf(described?.base ?? described?.type ?? 'text')
  })
  const rows: { key: string[]; at: RowAt }[] = []
  for (const [chunk, { name }] of table.chunks.entries()) {
    const lines = await chunkRows(store, name)
    for (let row = 0; row < lines.rows; row++) {
      const key = rawFields(lines.line(row), at).map((field) => fieldsOf(field)[0] ?? '')
      rows.push({ key, at: { chunk, row } })
    }
  }
  rows.sort((a, b) => {
    for (const [i, ordering] of orderings.entries()) {
      const order = compareValues(a.key[i]!, b.key[i]!, ordering)
      if (order !== 0) return order
    }
    return 0
  })
  return rows.map((row) => row.at)
}
