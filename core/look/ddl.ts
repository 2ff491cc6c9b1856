import type { DatabaseManifest } from '../content/manifest'
import { thingKey } from '../restore/sql'
import { isBeforeRows, isTableEntry, withParts, type StructureEntry } from '../restore/structure'

/** The entries that make one thing of a database, with all that belongs to it; empty when it is not in it. */
export function entriesOf(manifest: DatabaseManifest, path: string): StructureEntry[] {
  const table = manifest.tables.find((candidate) => candidate.path === path)
  const other = manifest.others.find((candidate) => candidate.path === path)
  if (!table) return other ? withParts(manifest.entries, [other.entry]) : []
  const owned = new Set(
    manifest.sequences
      .filter(({ ownedBy }) => ownedBy && thingKey(...ownedBy) === thingKey(table.schema, table.name))
      .map(({ schema, name }) => thingKey(schema, name)),
  )
  const roots = manifest.entries.filter(
    (entry) =>
      (isTableEntry(entry) && entry.oid === table.oid) ||
      (entry.type === 'SEQUENCE' && owned.has(thingKey(entry.schema ?? '', entry.name))),
  )
  const taken = withParts(
    manifest.entries,
    roots.map(({ id }) => id),
  )
  // Keys of other tables that refer to this one are theirs.
  return taken.filter((entry) => entry.type !== 'FK CONSTRAINT' || entry.of === table.oid)
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
