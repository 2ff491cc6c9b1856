import type { Chunks } from './chunk-list'
import type { Shape } from '../changes/shapes'
import type { Consistency, Reached } from '../quiesce/consistency'
import type { StructureEntry } from '../restore/structure'

// What a point knows of its content. The manifest of a member is written after all content and before the
// point; see docs/formats.md.

/** A chunk in a manifest: its name, rows, plain bytes, smallest and largest key, and its last row's hash. */
export interface ChunkRef {
  name: string
  rows: number
  bytes: number
  keys: [string, string] | null
  tail: string
}

/** How a table is made, in the server's own words; equal objects are equal tables. */
export interface TableStructure {
  kind: 'table' | 'partitioned' | 'foreign'
  persistence: 'permanent' | 'unlogged'
  columns: Column[]
  constraints: Part[]
  indexes: Part[]
  triggers: Part[]
  policies: Part[]
  rules: Part[]
  statistics: Part[]
  owner: string
  grants: string[]
  comment: string | null
  rowSecurity: 'off' | 'on' | 'forced'
  replicaIdentity: string
  partitionKey: string | null
  /** The parent as `"schema"."name"`. */
  partitionOf: string | null
  partitionBound: string | null
  options: string[]
  /** Where it is another one than the server's own heap. */
  accessMethod?: string
  /** Parents in the order of inheritance, as `"schema"."name"`; partitions are not among them. */
  inherits?: string[]
}

export interface Column {
  name: string
  type: string
  nullable: boolean
  default: string | null
  generated: boolean
  identity: 'always' | 'by default' | null
  collation: string | null
  comment: string | null
  /** For a domain: the type beneath it. */
  base?: string
}

/** A constraint, index, trigger, policy, rule or statistics object: its name and definition. */
export interface Part {
  name: string
  definition: string
}

export interface TableManifest {
  path: string
  schema: string
  name: string
  oid: number
  structure: TableStructure
  /** Columns in the order in which the rows hold them; generated ones are not among them. */
  columns: string[]
  /** Numbers of the columns in the source's catalog, which stay when columns are renamed; with them rows of a log are read. */
  numbers?: number[]
  /** For each column, as COPY text, the value that rows have which were written before the column was added. */
  fills?: string[]
  /** Of what the text of their values hangs on, column by column (core/changes/shapes.ts); absent where all types are the server's own. */
  shapes?: (Shape | null)[]
  /** Which transaction wrote each column's line in the catalog; another one when it was altered. */
  versions?: string[]
  /** Another one when the table has been written anew. */
  filenode?: number
  /** Numbers of the columns by which the source's log tells its rows apart; empty when it does not. */
  identityKey?: number[]
  /** Columns of the primary key, or of a unique key without nulls. */
  key: string[] | null
  rows: number
  bytes: number
  fingerprint: string
  chunks: Chunks
}

/** What a table holds that has no rows. */
export const NO_ROWS = { rows: 0, bytes: 0, fingerprint: '0'.repeat(32), chunks: [] as Chunks } as const

export interface SequenceState {
  schema: string
  name: string
  last: string
  called: boolean
  /** Whether it counts down. */
  down?: boolean
  /** `schema`, `table` of the column that owns it. */
  ownedBy: [string, string] | null
}

/** A thing without rows: view, function, type, sequence, extension. */
export interface OtherThing {
  path: string
  kind: string
  entry: number
  /** For materialized views: whether they held rows. */
  populated?: boolean
}

/** Large objects, as rows of COPY text with object id, page and bytes. */
export interface LargeObjectsManifest {
  path: string
  objects: LargeObject[]
  rows: number
  bytes: number
  fingerprint: string
  chunks: Chunks
}

export interface LargeObject {
  oid: number
  owner: string
  comment: string | null
  /** Role (null: everybody), privilege, and whether it may be passed on. */
  grants: { role: string | null; privilege: string; grantable: boolean }[]
}

/** A role as far as it can be made again; passwords are never read. */
export interface RoleDefinition {
  name: string
  login: boolean
  inherit: boolean
  createDatabase: boolean
  createRole: boolean
  memberOf: string[]
  /** Of these, those into which it may let others; absent in points from before it was kept. */
  adminOf?: string[]
}

/** What belongs to a database itself, and is in no dump of its content. */
export interface DatabaseProperties {
  owner: string
  comment: string | null
  grants: LargeObject['grants']
  /** `name=value`, for all roles (null) or one. */
  settings: { role: string | null; setting: string }[]
  connectionLimit: number
}

/** Something that is not in a point, or not wholly. A note tells of what never can be, and does not make a point incomplete. */
export interface Missing {
  path: string
  reason: string
  note?: boolean
  /** The snapshot at the source that its data is still only in. */
  onlyAt?: string
}

export interface DatabaseManifest {
  name: string
  encoding: string
  collate: string
  ctype: string
  /** The locale of ICU, where that gives the database its order. */
  icuLocale?: string | null
  /** Position in the write-ahead log and the source's clock when the snapshot was taken. */
  position: string
  at: string
  entries: StructureEntry[]
  tables: TableManifest[]
  sequences: SequenceState[]
  others: OtherThing[]
  /** Things that were to be taken and could not be, with the reason. */
  missing: Missing[]
  /**
   * Catalog and object id, as in `1259/16384`, of what was changed while it was read: the server writes definitions as
   * they are when it is asked, so that these may be of soon after the snapshot.
   */
  moved?: string[]
  /** Absent in points that were made before these were captured. */
  properties?: DatabaseProperties
  roles?: RoleDefinition[]
  largeObjects?: LargeObjectsManifest | null
}

/** An object of a cluster as it is kept: without what the cluster writes itself. */
export interface ObjectEntry {
  path: string
  group: string
  version: string
  kind: string
  name: string
  labels: Record<string, string>
  /** SHA-256 of its canonical JSON. */
  digest: string
  bytes: number
  /** Which of the namespace's lines it is. */
  line: number
  /** Paths of what it uses. */
  uses: string[]
  /** It belongs to no namespace, and is kept because something here needs it. */
  wide?: boolean
}

/** A file, folder or link of a volume. */
export interface FileEntry {
  /** Below the volume's root, without a slash before it. */
  path: string
  type: 'file' | 'folder' | 'link' | 'hard-link' | 'pipe' | 'device'
  mode: number
  uid: number
  gid: number
  /** In milliseconds since 1970. */
  mtime: number
  /** When anything of it was last changed, in seconds since 1970, to the nanosecond; absent where one can't go by it. */
  changed?: string
  size: number
  /** Where a link leads. */
  target?: string
  /** BLAKE2b-512 of its content, in hexadecimal. */
  digest?: string
  chunks?: string[]
}

export interface VolumeManifest {
  path: string
  claim: string
  storageClass: string
  capacity: string
  /** Whether a snapshot of it was read, or the volume itself while it was in use. */
  how: 'snapshot' | 'in place'
  /** Of one that was read in place: whether a pod had it when reading began or ended; absent where that was not looked at. */
  inUse?: boolean
  /** The folder of it that was read; absent for all of it. */
  folder?: string
  /** When the snapshot was taken, or when reading ended. */
  at: string
  files: number
  bytes: number
  /** SHA-256 over the digests of all files in the order of their paths. */
  fingerprint: string
  /** The snapshot at the source that its data is still only in; nothing of it is in the store then. */
  onlyAt?: string
  /** The chunks that hold its entries (`FileEntry[]`) as JSON. */
  entries: string[]
}

export interface NamespaceManifest {
  name: string
  at: string
  labels: Record<string, string>
  objects: ObjectEntry[]
  /** The chunks that hold the objects, a line of canonical JSON each, in the order of `objects`. */
  chunks: string[]
  volumes: VolumeManifest[]
  missing: Missing[]
}

export interface Manifest {
  format: 1
  kind: 'full' | 'synthetic'
  /** The source. */
  member: string
  server: { version: string; versionNumber: number; systemId: string }
  databases: DatabaseManifest[]
  /** Of a cluster; absent in all others. */
  namespaces?: NamespaceManifest[]
}

/** Something of a point that can't be read any more, or not all of; a path of the point, or in words what of it. */
export interface Damage {
  path: string
  reason: string
}

/** What is in the store under a point's id, sealed; a point exists when this does. */
export interface PointRecord {
  format: 1
  id: string
  vessel: { id: string; name: string; version: number; definition: unknown }
  run: string
  at: string
  name: string | null
  comment: string | null
  consistency: Consistency
  /** What each member reached, and why; absent in points that were not captured from sources. */
  reached?: Reached
  complete: boolean
  members: {
    member: string
    artifact: string
    kind: 'full' | 'differential' | 'incremental' | 'synthetic'
    position: string
    rows: number
    bytes: number
    /** The chunks that hold the member's manifest as JSON. */
    manifest: string[]
    /** The artifact that a differential or an incremental builds upon, and the position at which it begins. */
    parent?: string
    from?: string
    /** Which history of the source the positions belong to. */
    era?: string
  }[]
}

/** What is in the store under a segment's id, sealed; a segment of log exists when this does. */
export interface SegmentRecord {
  format: 1
  id: string
  vessel: { id: string; name: string }
  member: string
  from: string
  to: string
  /** The chunks that hold its manifest as JSON. */
  manifest: string[]
}
