import { CONTAINER_KINDS, type ThingKind } from '~~/core/things/thing'
import type { PointThing } from '~~/server/views'

/** Whether a table can be looked into; one whose rows are not known at a moment can't. */
export const isTable = (thing: Pick<PointThing, 'kind' | 'unknown'>) =>
  (thing.kind === 'table' || thing.kind === 'partition') && thing.unknown === undefined

/** Objects of clusters bear the kind that their API gives them, which begins with a capital. */
export const isObject = (thing: Pick<PointThing, 'kind'>) => /^[A-Z]/.test(thing.kind)
export const isContainer = (thing: Pick<PointThing, 'kind'>) => CONTAINER_KINDS.has(thing.kind as ThingKind)

/** Where a thing stands under Sources. */
export const thingLink = (path: string) => `/sources/${path.split('/').map(encodeURIComponent).join('/')}`

export const kindInWords = (kind: string) => kind.replaceAll('-', ' ')

/** What stands behind a thing in a tree: its rows, or its kind. */
export function sizeOf(thing: PointThing): string {
  if (isContainer(thing)) return ''
  if (thing.unknown !== undefined) return 'not known'
  if (thing.kind === 'volume') return plural(thing.rows ?? 0, 'file')
  if (thing.rows !== null) return thing.asOf === undefined ? countInWords(thing.rows) : `${countInWords(thing.rows)}, earlier`
  return thing.kind === 'table' ? 'partitioned' : kindInWords(thing.kind)
}

/** What a thing's words in a tree mean, where they mean more than they say. */
export const whyOf = (thing: PointThing): string | undefined => thing.unknown ?? thing.asOf

/** What rules take, in a few words. */
export function whatOf({ tables, objects, volumes }: { tables: number; objects: number; volumes: number }): string {
  const parts = [
    tables > 0 || objects === 0 ? plural(tables, 'table') : '',
    objects > 0 ? plural(objects, 'object') : '',
    volumes > 0 ? plural(volumes, 'volume') : '',
  ].filter(Boolean)
  return listInWords(parts)
}
