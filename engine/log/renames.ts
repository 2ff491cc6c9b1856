import type { TableManifest } from '../../core/content/manifest'
import type { StructureStep } from '../../core/changes/manifest'
import { renameStructure } from '../../core/compare/structure'
import { keyOf } from '../../core/restore/merge'
import { noRenaming, rename, thingKey, type Renaming } from '../../core/restore/sql'
import type { StructureEntry } from '../../core/restore/structure'

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

/** New names for old ones, for everything that has others in the second of two readings. */
function renamesOf(from: Map<string, Name>, to: Map<string, Name>, counts: (key: string) => boolean = () => true): Renaming {
  const renaming = noRenaming()
  for (const [key, name] of from) {
    const other = to.get(key)
    if (other && !isSame(name, other) && counts(key)) renaming.things.set(thingKey(name.schema, name.name), other)
  }
  return renaming
}

const PLAIN = /^[a-z_][a-z0-9_]*$/

/** A statement with new names, which are quoted only where the server would quote them too. */
function renamed(sql: string, renaming: Renaming): string {
  let text = rename(sql, renaming)
  for (const { schema, name } of renaming.things.values())
    if (PLAIN.test(schema) && PLAIN.test(name)) text = text.replaceAll(`"${schema}"."${name}"`, `${schema}.${name}`)
  return text
}

/** What writes an entry of one of two readings with the names of a moment, for which each thing was chosen from one of them. */
export function renamer(before: StructureEntry[], after: StructureEntry[], originOf: (key: string) => From | undefined) {
  const [then, now] = [namesIn(before), namesIn(after)]
  const renaming = {
    before: renamesOf(then, now, (key) => originOf(key) === 'after'),
    after: renamesOf(now, then, (key) => originOf(key) === 'before'),
  }
  return (entry: StructureEntry, from: From): StructureEntry =>
    renaming[from].things.size === 0 ? entry : { ...entry, sql: renamed(entry.sql, renaming[from]) }
}

/** Whether a thing reads the same in two readings, but for names of other things that are called otherwise by then. */
export function sameBut(before: StructureEntry[], after: StructureEntry[]) {
  const renaming = renamesOf(namesIn(before), namesIn(after))
  const plain = (sql: string) => sql.replaceAll(/"([a-z_][a-z0-9_]*)"/g, '$1')
  const texts = (entries: StructureEntry[], names: Renaming) =>
    entries.map(({ type, sql, owner }) => JSON.stringify([type, owner, plain(renamed(sql, names))])).sort()
  return (then: StructureEntry[], now: StructureEntry[]): boolean =>
    JSON.stringify(texts(then, renaming)) === JSON.stringify(texts(now, noRenaming()))
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
    return due.reduce((one, { from, to }) => {
      const renaming = { ...noRenaming(), things: new Map([[thingKey(from.schema, from.name), to]]) }
      return { ...one, structure: renameStructure(one.structure, renaming) }
    }, table)
  })
}
