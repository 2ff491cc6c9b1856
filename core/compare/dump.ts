import type { StructureEntry } from '../restore/structure'
import { definitionKey } from '../restore/target'

/** One statement of the server's dump that is not the same in two of them. */
export interface DumpDifference {
  /** What it is of, as in `INDEX yard.lift_tint`. */
  what: string
  why: string
  /** The name of the entry, by which a part that is told already is known. */
  name: string
}

const textOf = ({ sql, tablespace, accessMethod }: StructureEntry) => JSON.stringify([sql, tablespace ?? null, accessMethod ?? null])
const wordsOf = ({ type, schema, name }: StructureEntry) => `${type.toLowerCase()} ${schema === null ? '' : `${schema}.`}${name}`

/**
 * Compares what the server's dump wrote of a structure then with what it writes now, statement by statement, owners
 * included. What is there now and was not then is no difference, unless it belongs to something that was.
 *
 * @param expected entries of then that were to be there, with the names and roles of the target
 */
export function dumpDifferences(expected: StructureEntry[], now: StructureEntry[]): DumpDifference[] {
  const found = new Map<string, StructureEntry[]>()
  for (const entry of now) found.set(definitionKey(entry), [...(found.get(definitionKey(entry)) ?? []), entry])
  const differences: DumpDifference[] = []
  const matched = new Set<StructureEntry>()
  for (const entry of expected) {
    const same = found.get(definitionKey(entry)) ?? []
    const [other] = same.filter((one) => !matched.has(one))
    for (const one of same) matched.add(one)
    if (!other) differences.push({ what: wordsOf(entry), why: 'It is not there.', name: entry.name })
    else if (!same.some((one) => textOf(one) === textOf(entry)))
      differences.push({
        what: wordsOf(entry),
        why: `The server writes it otherwise now: ${firstDifference(entry.sql, other.sql)}`,
        name: entry.name,
      })
    else if (entry.ownerSql !== null && !same.some((one) => one.owner === entry.owner))
      differences.push({
        what: wordsOf(entry),
        why: `It belongs to ${other.owner ?? 'nobody'}, and belonged to ${entry.owner}.`,
        name: entry.name,
      })
  }
  return differences
}

/** The first line that differs, cut to what a receipt can hold. */
function firstDifference(then: string, now: string): string {
  const [a, b] = [then.split('\n'), now.split('\n')]
  const at = a.findIndex((line, i) => line !== b[i])
  const cut = (line: string | undefined) => (line === undefined ? 'nothing' : `“${line.trim().slice(0, 120)}”`)
  return at < 0 ? `${cut(b[a.length])} more.` : `${cut(b[at])} instead of ${cut(a[at])}.`
}
