import { CONTAINER_KINDS, namesOf, type ThingKind } from '~~/core/things/thing'
import type { PointThing } from '~~/server/views'

/** Whether a table can be looked into; one whose rows are not known at a moment can't. */
export const isTable = (thing: Pick<PointThing, 'kind' | 'unknown'>) =>
  (thing.kind === 'table' || thing.kind === 'partition') && thing.unknown === undefined

/** Objects of clusters bear the kind that their API gives them, which begins with a capital. */
export const isObject = (thing: Pick<PointThing, 'kind'>) => /^[A-Z]/.test(thing.kind)
export const isContainer = (thing: Pick<PointThing, 'kind'>) => CONTAINER_KINDS.has(thing.kind as ThingKind)

/** Where a thing stands under Sources. */
export const thingLink = (path: string) => `/sources/${path.split('/').map(encodeURIComponent).join('/')}`

/** A thing by its names within its database or namespace: `sales.booking_leg`. */
export const shortOf = (path: string) => namesOf(path).slice(2).join('.') || path

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

/** How a volume of a point was read. */
export function readInWords({ how, inUse, at }: NonNullable<PointThing['read']>): string {
  if (how === 'snapshot') return `read from a snapshot of ${secondsOf(at)}`
  const meanwhile = inUse === null ? '' : inUse ? ', while it was in use' : ', while nothing used it'
  return `read in place until ${secondsOf(at)}${meanwhile}`
}

/** What rules take, in a few words. */
export function whatOf({ tables, objects, volumes }: { tables: number; objects: number; volumes: number }): string {
  const parts = [
    tables > 0 || objects === 0 ? plural(tables, 'table') : '',
    objects > 0 ? plural(objects, 'object') : '',
    volumes > 0 ? plural(volumes, 'volume') : '',
  ].filter(Boolean)
  return listInWords(parts)
}
