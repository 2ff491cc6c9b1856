import { rootsOf, type StructureEntry } from './structure'
import { definitionKey } from './target'
import type { SequenceState } from '../content/manifest'

/** A structure that was read once: its entries, and which tables own its sequences. */
export interface ReadStructure {
  entries: StructureEntry[]
  sequences: SequenceState[]
}

/** What an entry stands for, whatever number a dump gave it. */
export const keyOf = (entry: StructureEntry): string => (entry.oid === 0 ? definitionKey(entry) : `${entry.catalog}/${entry.oid}`)

/** Entries by the thing that they belong to. */
function thingsOf({ entries, sequences }: ReadStructure): Map<string, StructureEntry[]> {
  const roots = rootsOf(entries, sequences)
  const byId = new Map(entries.map((entry) => [entry.id, entry]))
  const things = new Map<string, StructureEntry[]>()
  for (const entry of entries) {
    const key = keyOf(byId.get(roots.get(entry.id)!)!)
    const parts = things.get(key)
    if (parts) parts.push(entry)
    else things.set(key, [entry])
  }
  return things
}

/** What a thing consists of in two readings, null where it is not: catalog and object id of each part, and its entries. */
export interface ThingParts {
  before: string[] | null
  after: string[] | null
  entries: { before: StructureEntry[] | null; after: StructureEntry[] | null }
}

/** Which of two readings a thing is taken from: `null` when it was not there. */
export type Choice = 'before' | 'after' | null

/**
 * One structure out of two readings of the same database at different moments: each thing with all its parts as it is
 * in the one or in the other. Entries come in an order in which each comes after what it needs.
 *
 * @param choose is told a thing (catalog and object id, as in `1259/16384`) with what it consists of then and now
 * @param adapter asked once all are chosen, for what writes each entry for the moment
 */
export function mergeStructures(
  before: ReadStructure,
  after: ReadStructure,
  choose: (thing: string, parts: ThingParts) => Choice,
  adapter: () => (entry: StructureEntry, from: 'before' | 'after') => StructureEntry = () => (entry) => entry,
): StructureEntry[] {
  const [earlier, now] = [thingsOf(before), thingsOf(after)]
  const chosen: { entry: StructureEntry; from: 'before' | 'after' }[] = []
  for (const thing of new Set([...earlier.keys(), ...now.keys()])) {
    const [old, fresh] = [earlier.get(thing), now.get(thing)]
    const from = choose(thing, {
      before: old?.map(keyOf) ?? null,
      after: fresh?.map(keyOf) ?? null,
      entries: { before: old ?? null, after: fresh ?? null },
    })
    for (const entry of (from === 'before' ? old : from === 'after' ? fresh : undefined) ?? []) chosen.push({ entry, from: from! })
  }
  const adapt = adapter()
  const adapted = chosen.map(({ entry, from }) => ({ entry: adapt(entry, from), from }))
  return renumbered(adapted, { before: before.entries, after: after.entries })
}

/** Gives entries of two readings numbers that are theirs alone, and lets them need each other across both. */
function renumbered(
  chosen: { entry: StructureEntry; from: 'before' | 'after' }[],
  all: Record<'before' | 'after', StructureEntry[]>,
): StructureEntry[] {
  const shift = 1 + Math.max(0, ...all.after.map(({ id }) => id))
  const idOf = ({ entry, from }: (typeof chosen)[number]) => (from === 'after' ? entry.id : entry.id + shift)
  const byKey = new Map(chosen.map((choice) => [`${choice.entry.type} ${keyOf(choice.entry)}`, idOf(choice)]))
  const keys = { before: new Map<number, string>(), after: new Map<number, string>() }
  for (const from of ['before', 'after'] as const) for (const entry of all[from]) keys[from].set(entry.id, `${entry.type} ${keyOf(entry)}`)
  const entries = chosen.map((choice) => ({
    ...choice.entry,
    id: idOf(choice),
    needs: [...new Set(choice.entry.needs.flatMap((id) => byKey.get(keys[choice.from].get(id) ?? '') ?? []))],
  }))
  return inOrder(entries)
}

/** Entries as they come, but each after what it needs. Circles are left as they are. */
export function inOrder(entries: StructureEntry[]): StructureEntry[] {
  const byId = new Map(entries.map((entry) => [entry.id, entry]))
  const seen = new Set<number>()
  const ordered: StructureEntry[] = []
  const visit = (entry: StructureEntry) => {
    if (seen.has(entry.id)) return
    seen.add(entry.id)
    for (const id of entry.needs) {
      const needed = byId.get(id)
      if (needed) visit(needed)
    }
    ordered.push(entry)
  }
  for (const entry of entries) visit(entry)
  return ordered
}
