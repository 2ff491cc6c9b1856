import type { TableManifest } from '../../core/content/manifest'
import type { StructureStep } from '../../core/changes/manifest'
import { renameStructure } from '../../core/compare/structure'
import { keyOf } from '../../core/restore/merge'
import { noRenaming, plainIdentifier, rename, thingKey, type Renaming } from '../../core/restore/sql'
import { CATALOG, type StructureEntry } from '../../core/restore/structure'

// A statement names other things as they were called when it was read. One structure out of two readings needs every
// name as of one moment.

interface Name {
  schema: string
  name: string
}
type From = 'before' | 'after'

const NAMED = new Set(['TABLE', 'SEQUENCE', 'VIEW', 'MATERIALIZED VIEW', 'FOREIGN TABLE', 'TYPE', 'DOMAIN'])

function namesIn(entries: StructureEntry[]): Map<string, Name> {
  const named = entries.filter(({ type, oid, schema }) => NAMED.has(type) && oid !== 0 && schema !== null)
  return new Map(named.map((entry) => [keyOf(entry), { schema: entry.schema!, name: entry.name }]))
}

const isSame = (a: Name, b: Name) => a.schema === b.schema && a.name === b.name

/** New names for the old ones of a reading, for everything that is called otherwise. */
function renamesOf(from: Map<string, Name>, nameOf: (key: string) => Name | undefined): Renaming {
  const renaming = noRenaming()
  for (const [key, name] of from) {
    const other = nameOf(key)
    if (other && !isSame(name, other)) renaming.things.set(thingKey(name.schema, name.name), other)
  }
  return renaming
}

/** A statement with new names, which are quoted only where the server would quote them too. */
function renamed(sql: string, renaming: Renaming): string {
  let text = rename(sql, renaming)
  for (const { schema, name } of renaming.things.values())
    text = text.replaceAll(thingKey(schema, name), `${plainIdentifier(schema)}.${plainIdentifier(name)}`)
  return text
}

/**
 * What writes an entry of one of two readings with the names of a moment: those of tables are known, and of all else
 * those of the reading from which each was chosen.
 */
export function renamer(
  before: StructureEntry[],
  after: StructureEntry[],
  tables: TableManifest[],
  originOf: (key: string) => From | undefined,
) {
  const [earlier, now] = [namesIn(before), namesIn(after)]
  const known = new Map<string, Name>(tables.map((table) => [`${CATALOG.relation}/${table.oid}`, table]))
  const nameOf = (key: string) => known.get(key) ?? { before: earlier, after: now }[originOf(key) ?? 'before'].get(key)
  const renaming = { before: renamesOf(earlier, nameOf), after: renamesOf(now, nameOf) }
  return (entry: StructureEntry, from: From): StructureEntry => {
    if (renaming[from].things.size === 0) return entry
    const thing = entry.schema === null ? undefined : renaming[from].things.get(thingKey(entry.schema, entry.name))
    const named = thing && NAMED.has(entry.type) ? thing : {}
    return {
      ...entry,
      ...named,
      sql: renamed(entry.sql, renaming[from]),
      ownerSql: entry.ownerSql && renamed(entry.ownerSql, renaming[from]),
    }
  }
}

/** Whether a thing reads the same in two readings, but for names of other things that are called otherwise by then. */
export function sameBut(before: StructureEntry[], after: StructureEntry[]) {
  const now = namesIn(after)
  const renaming = renamesOf(namesIn(before), (key) => now.get(key))
  const plain = (sql: string) => sql.replaceAll(/"([a-z_][a-z0-9_]*)"/g, '$1')
  const texts = (entries: StructureEntry[], names: Renaming) =>
    entries.map(({ type, sql, owner }) => JSON.stringify([type, owner, plain(renamed(sql, names))])).sort()
  return (before: StructureEntry[], now: StructureEntry[]): boolean =>
    JSON.stringify(texts(before, renaming)) === JSON.stringify(texts(now, noRenaming()))
}

/** A table as it was read at another moment, under the name that it has at this one. */
export function calledAs(table: TableManifest, { schema, name }: Name): TableManifest {
  const renaming = { ...noRenaming(), things: new Map([[thingKey(table.schema, table.name), { schema, name }]]) }
  return { ...table, schema, name, structure: renameStructure(table.structure, renaming) }
}

/**
 * Tables with what their structures name called as at the last of some steps: each was described when it was read, or
 * by one of the steps, and others may have got new names since.
 */
export function withNamesOf(tables: TableManifest[], before: TableManifest[], steps: StructureStep[]): TableManifest[] {
  const names = new Map(before.map(({ oid, schema, name }) => [oid, { schema, name }]))
  const described = new Map<number, number>()
  const renames: { step: number; from: Name; to: Name }[] = []
  for (const [i, step] of steps.entries())
    for (const { oid, schema, name } of step.tables) {
      const known = names.get(oid)
      if (known && !isSame(known, { schema, name })) renames.push({ step: i, from: known, to: { schema, name } })
      names.set(oid, { schema, name })
      described.set(oid, i)
    }
  if (renames.length === 0) return tables
  return tables.map((table) => {
    const due = renames.filter(({ step }) => step > (described.get(table.oid) ?? -1))
    return due.reduce((state, { from, to }) => {
      const renaming = { ...noRenaming(), things: new Map([[thingKey(from.schema, from.name), to]]) }
      return { ...state, structure: renameStructure(state.structure, renaming) }
    }, table)
  })
}
