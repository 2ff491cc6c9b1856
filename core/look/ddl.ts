import type { DatabaseManifest } from '../content/manifest'
import { thingKey } from '../restore/sql'
import { isBeforeRows, isTableEntry, withParts, type StructureEntry } from '../restore/structure'

/** The entries that make some things of a database, with all that belongs to them, in order; empty when they are not in it. */
export function entriesOf(manifest: DatabaseManifest, ...paths: string[]): StructureEntry[] {
  const wanted = new Set(paths)
  const tables = manifest.tables.filter(({ path }) => wanted.has(path))
  const oids = new Set(tables.map(({ oid }) => oid))
  const names = new Set(tables.map(({ schema, name }) => thingKey(schema, name)))
  const owned = new Set(
    manifest.sequences
      .filter(({ ownedBy }) => ownedBy && names.has(thingKey(...ownedBy)))
      .map(({ schema, name }) => thingKey(schema, name)),
  )
  const others = new Set(manifest.others.filter(({ path }) => wanted.has(path)).map(({ entry }) => entry))
  const isRoot = (entry: StructureEntry) =>
    others.has(entry.id) ||
    (isTableEntry(entry) && oids.has(entry.oid)) ||
    (entry.type === 'SEQUENCE' && owned.has(thingKey(entry.schema ?? '', entry.name)))
  const taken = withParts(
    manifest.entries,
    manifest.entries.filter(isRoot).map(({ id }) => id),
  )
  // Keys of other tables that refer to these are theirs.
  return taken.filter((entry) => entry.type !== 'FK CONSTRAINT' || oids.has(entry.of ?? -1))
}

/** Statements as the server's own utility writes them: what comes before rows, and what comes after. */
export function ddlOf(entries: StructureEntry[]): { before: string; after: string } {
  const text = (some: StructureEntry[]) =>
    some
      .flatMap(({ sql, ownerSql }) => [sql, ownerSql ?? ''])
      .filter(Boolean)
      .join('\n\n')
  return { before: text(entries.filter(isBeforeRows)), after: text(entries.filter((entry) => !isBeforeRows(entry))) }
}
