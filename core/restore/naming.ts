import type { SequenceState, TableManifest } from '../content/manifest'
import { noRenaming, thingKey, type Renaming } from './sql'

/** Longest identifier that PostgreSQL keeps, in bytes of UTF-8. */
const MAX_BYTES = 63

const encoder = new TextEncoder()

/** Cuts a name so that `name + ending` fits, never inside a character. */
export function fitName(name: string, ending = ''): string {
  const room = MAX_BYTES - encoder.encode(ending).length
  let kept = ''
  let used = 0
  for (const character of name) {
    used += encoder.encode(character).length
    if (used > room) break
    kept += character
  }
  return kept + ending
}

/** A name that is not taken yet: the wanted one, or with a number behind it. */
export function freeName(wanted: string, isTaken: (name: string) => boolean): string {
  let name = fitName(wanted)
  for (let n = 2; isTaken(name); n++) name = fitName(wanted, `_${n}`)
  return name
}

/**
 * The name proposed for a copy beside the original: the original, what happened to it, the point's time
 * (UTC), as in `booking_leg_dropped_20261124_0410`.
 */
export function besideName(name: string, happened: 'dropped' | 'changed' | 'then', at: Date, isTaken: (name: string) => boolean): string {
  const stamp = at.toISOString().replace(/[-:]/g, '').replace('T', '_').slice(0, 13)
  const ending = `_${happened}_${stamp}`
  return freeName(fitName(name, ending), isTaken)
}

export interface Placement {
  table: TableManifest
  target: { schema: string; name: string }
}

/**
 * The renaming that puts each table at its target: the table, its owned sequences, its indexes, index-backed
 * constraints and statistics objects. `isTaken` tells which relation names exist at the target.
 */
export function renamingFor(
  placements: Placement[],
  sequences: SequenceState[],
  isTaken: (schema: string, name: string) => boolean,
): Renaming {
  const renaming = noRenaming()
  const given = new Set(placements.map(({ target }) => thingKey(target.schema, target.name)))
  for (const { table, target } of placements) {
    if (table.schema === target.schema && table.name === target.name) continue
    renaming.things.set(thingKey(table.schema, table.name), target)
    const derive = (old: string) => {
      const wanted = old.startsWith(table.name) ? target.name + old.slice(table.name.length) : `${target.name}_${old}`
      // The end tells indexes of one table apart, so a long name is cut at the table's part.
      const ending = old.startsWith(table.name) ? old.slice(table.name.length) : `_${old}`
      const fitted = encoder.encode(ending).length < 40 ? fitName(target.name, ending) : fitName(wanted)
      const name = freeName(fitted, (n) => given.has(thingKey(target.schema, n)) || isTaken(target.schema, n))
      given.add(thingKey(target.schema, name))
      return name
    }
    for (const sequence of sequences) {
      const [schema, owner] = sequence.ownedBy ?? []
      if (schema !== table.schema || owner !== table.name) continue
      renaming.things.set(thingKey(sequence.schema, sequence.name), { schema: target.schema, name: derive(sequence.name) })
    }
    for (const { name } of table.structure.indexes) renameIndex(renaming, table.schema, target.schema, name, derive(name))
    for (const { name } of table.structure.statistics) {
      renaming.things.set(thingKey(table.schema, name), { schema: target.schema, name: derive(name) })
    }
  }
  return renaming
}

function renameIndex(renaming: Renaming, from: string, to: string, name: string, derived: string): void {
  renaming.indexes.set(name, derived)
  renaming.things.set(thingKey(from, name), { schema: to, name: derived })
}
