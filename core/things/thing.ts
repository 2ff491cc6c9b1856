/**
 * Everything that a source holds is a thing. Its path starts with the source's name and goes down from
 * there: `ferry-db/bookings/sales/booking_leg`.
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
  | 'cluster'
  | 'namespace'
  /** Anything a cluster's API holds; its own kind is in the path and in the facts. */
  | 'object'
  | 'volume'

/** Kinds that hold other things; a rule decides over what lies in them, never over themselves. */
export const CONTAINER_KINDS: ReadonlySet<ThingKind> = new Set(['server', 'database', 'schema', 'cluster', 'namespace'])

/** What discovery knows of a thing. Rows are the server's own estimate until a backup has counted them. */
export interface ThingFacts {
  bytes?: number
  rows?: number
  owner?: string
  comment?: string
  partitions?: number
  partitionOf?: string
  /** Of a table: its number in the catalog of its database, which stays when it is renamed. */
  oid?: number
  /** What stands in the way of protecting it, in words. */
  trouble?: string
  version?: string
  /** Of an object in a cluster: its kind, and how its API names the version. */
  kind?: string
  apiVersion?: string
  /** Of a volume: its storage class, and whether snapshots of it can be taken. */
  storageClass?: string
  snapshots?: boolean
  /** Things that this one uses or makes, by path, as far as they are in the same place. */
  uses?: string[]
  made?: string
}

/** Where a cluster's things lie that belong to no namespace. */
export const CLUSTER_WIDE = '@cluster'
/** The API group without a name, as it is called in paths. */
export const CORE_GROUP = 'core'

/** The path of an object of a cluster: `pier/boarding/apps/StatefulSet/manifest`. */
export const objectPath = (source: string, namespace: string | undefined, group: string, kind: string, name: string) =>
  pathOf(source, namespace ?? CLUSTER_WIDE, group || CORE_GROUP, kind, name)

/** The path of a volume, which is named by its claim: `pier/boarding/volume/data-manifest-0`. */
export const volumePath = (source: string, namespace: string, claim: string) => pathOf(source, namespace, 'volume', claim)

// A name may hold a slash, which separates the parts of a path.
const encode = (name: string) => (/[%/]/.test(name) ? name.replaceAll('%', '%25').replaceAll('/', '%2F') : name)
const decode = (part: string) => (part.includes('%') ? part.replaceAll('%2F', '/').replaceAll('%25', '%') : part)

export function pathOf(...names: string[]): string {
  return names.map(encode).join('/')
}

/** `ferry-db / bookings`. */
export const placeInWords = (path: string): string => namesOf(path).join(' / ')

export function namesOf(path: string): string[] {
  return path.split('/').map(decode)
}

const LARGE_OBJECTS = 'large objects'

/** The large objects of a database, which are one thing. */
export const largeObjectsPath = (source: string, database: string): string => pathOf(source, database, LARGE_OBJECTS)

export const isLargeObjects = (path: string): boolean => {
  const [, , name, ...below] = namesOf(path)
  return name === LARGE_OBJECTS && below.length === 0
}

export function parentOf(path: string): string | undefined {
  const cut = path.lastIndexOf('/')
  return cut < 0 ? undefined : path.slice(0, cut)
}

/** The database or the namespace that a thing lies in. */
export function placeOf(path: string): string {
  const end = path.indexOf('/', path.indexOf('/') + 1)
  return end > 0 ? path.slice(0, end) : path
}

export function lastName(path: string): string {
  return decode(path.slice(path.lastIndexOf('/') + 1))
}

export function isWithin(path: string, container: string): boolean {
  return path === container || path.startsWith(`${container}/`)
}

/** A path and all that it lies in, from itself upwards. */
export function upwards(path: string): string[] {
  const all = [path]
  for (let end = path.lastIndexOf('/'); end >= 0; end = end === 0 ? -1 : path.lastIndexOf('/', end - 1)) all.push(path.slice(0, end))
  return all
}

/** Tells of paths whether they are one of some or lie in one, as quickly for many as for few. */
export function withinAny(containers: Iterable<string>): (path: string) => boolean {
  const all = new Set(containers)
  return (path) => upwards(path).some((above) => all.has(above))
}

/** Of some paths, by each of them and each that they lie in: how many lie there. */
export function countsWithin(paths: Iterable<string>): Map<string, number> {
  const counts = new Map<string, number>()
  for (const path of paths) for (const ancestor of upwards(path)) counts.set(ancestor, (counts.get(ancestor) ?? 0) + 1)
  return counts
}

/** Whether rules decide over what is at a path. Schemas and extensions come with their database. */
export function isSelectable(path: string): boolean {
  return namesOf(path).length > 3
}
