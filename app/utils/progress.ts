import { listInWords, plural } from '../../core/time/words'

// What runs have moved, and how far they are.

export type Counters = Record<string, number>

/** Rows, objects and files, as far as there were any: `12 rows, 3 objects and 1 file`. */
export const movedInWords = (counters: Counters): string =>
  listInWords(['row', 'object', 'file'].flatMap((unit) => ((counters[`${unit}s`] ?? 0) > 0 ? [plural(counters[`${unit}s`]!, unit)] : [])))

/** What takes the time comes before what is made in between; to read something back takes less of it than to write it. */
const WEIGHTY: Record<string, number>[] = [
  { rows: 1, files: 1, 'rows checked': 0.25, 'files checked': 0.25 },
  { objects: 1, structures: 1 },
  { bytes: 1 },
]

/** How much of what is expected is done, from 0 to 1; null while that is not known. */
export function shareOf(counters: Counters): number | null {
  for (const group of WEIGHTY) {
    const known = Object.entries(group).filter(([one]) => (counters[`${one} expected`] ?? 0) > 0)
    if (known.length === 0) continue
    const all = known.reduce((sum, [, weight]) => sum + weight, 0)
    return (
      known.reduce((sum, [counter, weight]) => sum + weight * Math.min(1, (counters[counter] ?? 0) / counters[`${counter} expected`]!), 0) /
      all
    )
  }
  return null
}
