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

/** What an entry makes, and where. */
export const statementText = ({ sql, tablespace, accessMethod }: StructureEntry) =>
  JSON.stringify([sql, tablespace ?? null, accessMethod ?? null])
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
  const isSame = (a: StructureEntry, b: StructureEntry) =>
    statementText(a) === statementText(b) && (a.ownerSql === null || a.owner === b.owner)
  /** Takes one that was found, so that it stands for no other. */
  const take = (entry: StructureEntry, wanted: (candidate: StructureEntry) => boolean): StructureEntry | undefined => {
    const candidates = found.get(definitionKey(entry)) ?? []
    const at = candidates.findIndex(wanted)
    return at < 0 ? undefined : candidates.splice(at, 1)[0]
  }
  const others = expected.filter((entry) => !take(entry, (candidate) => isSame(entry, candidate)))
  return others.map((entry): DumpDifference => {
    const other = take(entry, () => true)
    return { what: wordsOf(entry), why: other ? whyOf(entry, other) : 'It is not there.', name: entry.name }
  })
}

function whyOf(before: StructureEntry, now: StructureEntry): string {
  if (statementText(before) !== statementText(now)) return `The server writes it otherwise now: ${firstDifference(before.sql, now.sql)}`
  return `It belongs to ${now.owner ?? 'nobody'}, and belonged to ${before.owner}.`
}

/** The first line that differs, cut to what a receipt can hold. */
function firstDifference(before: string, now: string): string {
  const [a, b] = [before.split('\n'), now.split('\n')]
  const at = a.findIndex((line, i) => line !== b[i])
  const cut = (line: string | undefined) => (line === undefined ? 'nothing' : `“${line.trim().slice(0, 120)}”`)
  return at < 0 ? `${cut(b[a.length])} more.` : `${cut(b[at])} instead of ${cut(a[at])}.`
}
