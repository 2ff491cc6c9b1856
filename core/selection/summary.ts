import { placeOf, type Thing, type ThingKind } from '../things/thing'
import type { Selection } from './rules'

/** A few things of many, for a line on the screen. */
export interface Few {
  count: number
  tables: number
  /** Objects of clusters, and their volumes. */
  objects: number
  volumes: number
  bytes: number
  rows: number
  /** By kind, the most frequent first. */
  kinds: [ThingKind, number][]
  first: { path: string; kind: ThingKind; bytes: number }[]
}

export interface SelectionSummary {
  taken: Few
  left: Few
  unnamed: Few
  rules: Record<string, Few & { names: number }>
  /** Things that are taken and can't be read, with the reason. */
  troubled: { path: string; trouble: string }[]
  /** Databases and namespaces that something is taken of: the members of a point. */
  members: string[]
  /** Volumes that are taken. */
  volumes: string[]
  /** Volumes that are taken and give no snapshots: they are read in place, for as long as they are held. */
  inPlace: string[]
}

const FIRST = 40

export function few(things: Thing[]): Few {
  const kinds = new Map<ThingKind, number>()
  let [bytes, rows, tables, objects, volumes] = [0, 0, 0, 0, 0]
  for (const { kind, facts } of things) {
    kinds.set(kind, (kinds.get(kind) ?? 0) + 1)
    bytes += facts.bytes ?? 0
    rows += facts.rows ?? 0
    if (kind === 'table') tables++
    if (kind === 'object') objects++
    if (kind === 'volume') volumes++
  }
  const heaviest = [...things].sort((a, b) => (b.facts.bytes ?? -1) - (a.facts.bytes ?? -1)).slice(0, FIRST)
  return {
    count: things.length,
    tables,
    objects,
    volumes,
    bytes,
    rows,
    kinds: [...kinds].sort((a, b) => b[1] - a[1]),
    first: heaviest.map(({ path, kind, facts }) => ({ path, kind, bytes: facts.bytes ?? 0 })),
  }
}

/** A selection in figures, small enough to travel to the interface whatever the size of the estate. */
export function summarize({ taken, left, unnamed, byRule }: Selection): SelectionSummary {
  return {
    taken: few(taken),
    left: few(left),
    unnamed: few(unnamed),
    rules: Object.fromEntries([...byRule].map(([id, { decides, names }]) => [id, { ...few(decides), names }])),
    troubled: taken.flatMap(({ path, facts }) => (facts.trouble ? [{ path, trouble: facts.trouble }] : [])).slice(0, FIRST),
    members: [...new Set(taken.map(({ path }) => placeOf(path)))].sort().slice(0, FIRST),
    volumes: taken
      .filter(({ kind }) => kind === 'volume')
      .map(({ path }) => path)
      .slice(0, FIRST),
    inPlace: taken
      .filter(({ kind, facts }) => kind === 'volume' && facts.snapshots === false)
      .map(({ path }) => path)
      .slice(0, FIRST),
  }
}
