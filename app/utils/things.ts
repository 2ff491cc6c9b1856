import type { PointThing } from '~~/server/views'

export const isTable = (thing: Pick<PointThing, 'kind'>) => thing.kind === 'table' || thing.kind === 'partition'

export const kindInWords = (kind: string) => kind.replaceAll('-', ' ')

/** What stands behind a thing in a tree: its rows, or its kind. */
export function sizeOf(thing: PointThing): string {
  if (thing.kind === 'database' || thing.kind === 'schema') return ''
  if (thing.rows !== null) return countInWords(thing.rows)
  return thing.kind === 'table' ? 'partitioned' : kindInWords(thing.kind)
}
