import { NOWHERE } from '../../core/chain/position'
import type { DatabaseManifest, Manifest, Missing, NamespaceManifest } from '../../core/content/manifest'
import { judgeStructure } from '../../core/restore/judge'
import { isSelectable } from '../../core/things/thing'

/** What one database or namespace yielded: a member of a point, with a manifest of its own. */
export interface Piece {
  name: string
  /** When it was as it is kept, by the clock of its source. */
  at: string
  position: string
  /** Rows of tables; objects and files of a namespace. */
  rows: number
  bytes: number
  missing: Missing[]
  isEmpty: boolean
  isCluster: boolean
  manifest: Manifest
}

/** A source's manifest as its members. */
export const piecesOf = (manifest: Manifest): Piece[] => [
  ...manifest.databases.map((database) => ofDatabase(manifest, database)),
  ...(manifest.namespaces ?? []).map((namespace) => ofNamespace(manifest, namespace)),
]

const sum = <T>(all: T[], of: (item: T) => number) => all.reduce((total, item) => total + of(item), 0)

function ofDatabase(whole: Manifest, database: DatabaseManifest): Piece {
  const { name, at, position, tables, others, largeObjects, missing } = database
  return {
    name,
    at,
    position,
    rows: sum(tables, (table) => table.rows),
    bytes: sum(tables, (table) => table.bytes),
    missing: [...missing, ...judgeStructure(whole.member, database, whole.server.versionNumber)],
    isEmpty: tables.length === 0 && !others.some(({ path }) => isSelectable(path)) && !largeObjects,
    isCluster: false,
    manifest: { ...whole, databases: [database] },
  }
}

function ofNamespace(whole: Manifest, namespace: NamespaceManifest): Piece {
  const { name, at, objects, volumes, missing } = namespace
  return {
    name,
    at,
    position: NOWHERE,
    rows: objects.length + sum(volumes, ({ files }) => files),
    bytes: sum(objects, ({ bytes }) => bytes) + sum(volumes, ({ bytes }) => bytes),
    missing,
    isEmpty: objects.length === 0 && volumes.length === 0,
    isCluster: true,
    manifest: { ...whole, namespaces: [namespace] },
  }
}
