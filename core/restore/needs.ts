import type { OtherThing, TableManifest } from '../content/manifest'
import { existsAt, type Operation, type PlanInput } from './plan'
import type { StructureEntry } from './structure'
import { CATALOG, withParts } from './structure'

/** An entry that comes along with what was picked, and why. */
export interface Along {
  entry: StructureEntry
  other: OtherThing | undefined
  why: string
}

const STANDALONE: Record<string, string> = {
  SCHEMA: 'schema',
  EXTENSION: 'extension',
  TYPE: 'type',
  DOMAIN: 'type',
  FUNCTION: 'function',
  PROCEDURE: 'function',
  AGGREGATE: 'function',
  SEQUENCE: 'sequence',
  COLLATION: 'type',
  VIEW: 'view',
  'MATERIALIZED VIEW': 'materialized-view',
}
const NEEDABLE = new Set(['SCHEMA', 'EXTENSION', 'TYPE', 'DOMAIN', 'FUNCTION', 'PROCEDURE', 'AGGREGATE', 'SEQUENCE', 'COLLATION'])
const GOES_WITH = new Set(['VIEW', 'MATERIALIZED VIEW'])

/**
 * What comes along: before, the schemas, types, functions, sequences and extensions that picked things need
 * and that are missing at the target; after, the views over a table that were dropped with it.
 */
export function needsOf(
  input: PlanInput,
  tables: TableManifest[],
  others: OtherThing[],
  operations: Operation[],
): { before: Along[]; after: Along[] } {
  const { manifest, target } = input
  const byId = new Map(manifest.entries.map((entry) => [entry.id, entry]))
  // Only the table itself: entries such as its row security carry its object id too.
  const ownEntry = new Map(manifest.entries.filter((entry) => entry.catalog === CATALOG.relation).map((entry) => [entry.oid, entry]))
  const making = tables.filter((_, i) => operations[i]!.verb === 'make' || operations[i]!.how === 'rebuild')
  const roots = making.flatMap((table) => ownEntry.get(table.oid)?.id ?? [])
  const pickedEntries = new Set(others.map((other) => other.entry))
  const found = new Map<number, Along>()
  const otherOf = (entry: StructureEntry) => manifest.others.find((other) => other.entry === entry.id)
  const isMissing = (entry: StructureEntry) => {
    const kind = STANDALONE[entry.type]
    return kind !== undefined && !existsAt(target, kind, entry.schema ?? '', entry.name)
  }
  const owned = new Set(manifest.sequences.filter((s) => s.ownedBy).map((s) => `${s.schema}.${s.name}`))
  const walk = (entry: StructureEntry, why: string) => {
    for (const id of entry.needs) {
      const needed = byId.get(id)
      if (!needed || found.has(id) || !NEEDABLE.has(needed.type) || pickedEntries.has(id)) continue
      if (needed.type === 'SEQUENCE' && owned.has(`${needed.schema}.${needed.name}`)) continue
      if (!isMissing(needed)) continue
      walk(needed, why)
      found.set(id, { entry: needed, other: otherOf(needed), why: `${why} needs it` })
    }
  }
  for (const entry of withParts(manifest.entries, roots)) walk(entry, entry.name.split(' ')[0]!)
  for (const other of others) walk(byId.get(other.entry)!, byId.get(other.entry)!.name)
  const after = input.wish.into.mode === 'beside' ? [] : goneWith(input, new Set(roots), pickedEntries, isMissing)
  for (const { entry } of after) walk(entry, entry.name)
  return { before: manifest.entries.flatMap((entry) => found.get(entry.id) ?? []), after }
}

function goneWith(
  { manifest }: PlanInput,
  roots: Set<number>,
  picked: Set<number>,
  isMissing: (entry: StructureEntry) => boolean,
): Along[] {
  const back = new Set(roots)
  const along: Along[] = []
  for (const entry of manifest.entries) {
    if (!GOES_WITH.has(entry.type) || picked.has(entry.id) || !isMissing(entry)) continue
    const root = entry.needs.find((id) => back.has(id))
    const other = manifest.others.find((candidate) => candidate.entry === entry.id)
    if (root === undefined || !other) continue
    back.add(entry.id)
    along.push({ entry, other, why: `went with ${manifest.entries.find((e) => e.id === root)!.name}` })
  }
  return along
}
