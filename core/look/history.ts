import { rawFields } from '../compare/rows'

/** What one point holds of the rows that are looked for; null when the table is not in it. */
export interface Sighting<P> {
  point: P
  columns: string[]
  lines: string[] | null
}

export type Fate = 'first' | 'same' | 'changed' | 'appeared' | 'gone' | 'absent' | 'no table'

export interface HistoryEntry<P> extends Sighting<P> {
  fate: Fate
  /** Columns that differ from the point before, in any of the rows. */
  changed: string[]
}

/**
 * How rows went from point to point. Sightings come oldest first; so do the entries.
 * @param key columns that tell rows apart; without them the whole line does
 */
export function historyOf<P>(sightings: Sighting<P>[], key: string[] | null): HistoryEntry<P>[] {
  return sightings.map((sighting, i) => {
    const before = sightings[i - 1]
    return { ...sighting, ...fateOf(sighting, before, key) }
  })
}

function fateOf<P>(now: Sighting<P>, before: Sighting<P> | undefined, key: string[] | null): { fate: Fate; changed: string[] } {
  if (now.lines === null) return { fate: 'no table', changed: [] }
  const [has, had] = [now.lines.length > 0, (before?.lines?.length ?? 0) > 0]
  if (!had) return { fate: has ? (before === undefined ? 'first' : 'appeared') : 'absent', changed: [] }
  if (!has) return { fate: 'gone', changed: [] }
  const sorted = (lines: string[]) => [...lines].sort().join('\n')
  if (sorted(now.lines) === sorted(before!.lines!) && now.columns.join() === before!.columns.join()) return { fate: 'same', changed: [] }
  return { fate: 'changed', changed: changedColumns(now, before!, key) }
}

function changedColumns<P>(now: Sighting<P>, before: Sighting<P>, key: string[] | null): string[] {
  const keyOf = ({ columns }: Sighting<P>, line: string) =>
    key === null
      ? ''
      : rawFields(
          line,
          key.map((column) => columns.indexOf(column)),
        ).join('\t')
  const earlier = new Map(before.lines!.map((line) => [keyOf(before, line), line.split('\t')]))
  const changed = new Set<string>()
  for (const line of now.lines!) {
    const old = earlier.get(keyOf(now, line))
    const fields = line.split('\t')
    now.columns.forEach((column, i) => {
      if (!old || old[before.columns.indexOf(column)] !== fields[i]) changed.add(column)
    })
  }
  return [...changed]
}
