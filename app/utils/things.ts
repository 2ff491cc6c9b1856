import type { PointThing } from '~~/server/views'

export const isTable = (thing: Pick<PointThing, 'kind'>) => thing.kind === 'table' || thing.kind === 'partition'

/** Objects of clusters bear the kind that their API gives them, which begins with a capital. */
export const isObject = (thing: Pick<PointThing, 'kind'>) => /^[A-Z]/.test(thing.kind)
export const isContainer = (thing: Pick<PointThing, 'kind'>) => ['database', 'schema', 'namespace'].includes(thing.kind)

export const kindInWords = (kind: string) => kind.replaceAll('-', ' ')

/** What stands behind a thing in a tree: its rows, or its kind. */
export function sizeOf(thing: PointThing): string {
  if (isContainer(thing)) return ''
  if (thing.kind === 'volume') return plural(thing.rows ?? 0, 'file')
  if (thing.rows !== null) return countInWords(thing.rows)
  return thing.kind === 'table' ? 'partitioned' : kindInWords(thing.kind)
}

/** What rules take, in a few words. */
export function whatOf({ tables, objects, volumes }: { tables: number; objects: number; volumes: number }): string {
  const parts = [
    tables > 0 || objects === 0 ? plural(tables, 'table') : '',
    objects > 0 ? plural(objects, 'object') : '',
    volumes > 0 ? plural(volumes, 'volume') : '',
  ].filter(Boolean)
  return parts.length > 1 ? `${parts.slice(0, -1).join(', ')} and ${parts.at(-1)}` : parts[0]!
}
