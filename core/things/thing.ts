/**
 * Everything that a source holds is a thing. Its path starts with the source's name and goes down from
 * there: `harbour-db/bookings/sales/booking_leg`.
 */
export interface Thing {
  path: string
  kind: ThingKind
  labels: Record<string, string>
  facts: ThingFacts
}

export type ThingKind =
  | 'server'
  | 'database'
  | 'schema'
  | 'table'
  | 'materialized-view'
  | 'view'
  | 'sequence'
  | 'function'
  | 'type'
  | 'extension'
  | 'large-objects'

/** Kinds that hold other things; a rule decides over what lies in them, never over themselves. */
export const CONTAINER_KINDS: ReadonlySet<ThingKind> = new Set(['server', 'database', 'schema'])

/** What discovery knows of a thing. Rows are the server's own estimate until a backup has counted them. */
export interface ThingFacts {
  bytes?: number
  rows?: number
  owner?: string
  comment?: string
  partitions?: number
  partitionOf?: string
  /** What stands in the way of protecting it, in words. */
  trouble?: string
  version?: string
}

// A name may hold a slash, which separates the parts of a path.
const encode = (name: string) => name.replaceAll('%', '%25').replaceAll('/', '%2F')
const decode = (part: string) => part.replaceAll('%2F', '/').replaceAll('%25', '%')

export function pathOf(...names: string[]): string {
  return names.map(encode).join('/')
}

export function namesOf(path: string): string[] {
  return path.split('/').map(decode)
}

export function parentOf(path: string): string | undefined {
  const cut = path.lastIndexOf('/')
  return cut < 0 ? undefined : path.slice(0, cut)
}

export function lastName(path: string): string {
  return decode(path.slice(path.lastIndexOf('/') + 1))
}

export function isWithin(path: string, container: string): boolean {
  return path === container || path.startsWith(`${container}/`)
}

/** Whether rules decide over what is at a path. Schemas and extensions come with their database. */
export function isSelectable(path: string): boolean {
  return namesOf(path).length > 3
}
