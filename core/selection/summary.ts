import { lastName, namesOf, pathOf, placeOf, type Thing, type ThingKind } from '../things/thing'
import type { RuleKind, Selection } from './rules'

/** A few things of many, for a line on the screen. */
export interface Few {
  count: number
  tables: number
  /** Objects of clusters, and their volumes. */
  objects: number
  volumes: number
  bytes: number
  rows: number
  /** By kind, the most frequent first; objects of clusters by the kind that their API gives them. */
  kinds: [string, number][]
  /** The heaviest. */
  first: { path: string; kind: ThingKind; bytes: number; isNew: boolean }[]
}

/** What no rule names, as far as one rule would take or leave it. */
export interface LeftOver {
  /** The pattern of such a rule. */
  path: string
  kind: RuleKind
  count: number
  /** Of a few of them. */
  names: string[]
}

/** What is taken now, against what other rules take. */
export interface Difference {
  count: number
  bytes: number
  /** Taken now and not by the others. */
  fresh: number
  /** Taken by the others and not now. */
  dropped: number
}

export interface SelectionSummary {
  taken: Few
  left: Few
  unnamed: Few
  /** What is unnamed, in groups; those with most things first, and how many there are of such groups. */
  leftOver: LeftOver[]
  leftOverGroups: number
  /** Against the rules of before; null where there are none. */
  than: Difference | null
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
/** So many names stand for the others of their group. */
const NAMES = 4

/** @param isNew whether a thing is marked as one that was not taken before */
export function few(things: Thing[], isNew: (path: string) => boolean = () => false): Few {
  const kinds = new Map<string, number>()
  let [bytes, rows, tables, objects, volumes] = [0, 0, 0, 0, 0]
  for (const { kind, facts } of things) {
    const called = kind === 'object' ? (facts.kind ?? kind) : kind
    kinds.set(called, (kinds.get(called) ?? 0) + 1)
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
    first: heaviest.map(({ path, kind, facts }) => ({ path, kind, bytes: facts.bytes ?? 0, isNew: isNew(path) })),
  }
}

/** A rule that would decide over an unnamed thing and its like: those of its schema, or of its kind in its namespace. */
function ruleOver(path: string, kind: ThingKind): Pick<LeftOver, 'path' | 'kind'> {
  const names = namesOf(path)
  if (kind === 'volume') return { path, kind }
  if (kind === 'object') return { path: `${pathOf(...names.slice(0, 4))}/*`, kind }
  return names.length > 3 ? { path: pathOf(...names.slice(0, 3)), kind: 'schema' } : { path, kind: 'thing' }
}

function leftOverOf(unnamed: Thing[]): LeftOver[] {
  const groups = new Map<string, LeftOver>()
  for (const { path, kind } of unnamed) {
    const rule = ruleOver(path, kind)
    const group = groups.get(rule.path) ?? { ...rule, count: 0, names: [] }
    groups.set(rule.path, group)
    if (group.count++ < NAMES) group.names.push(lastName(path))
  }
  return [...groups.values()].sort((a, b) => b.count - a.count)
}

function differenceOf(now: Thing[], before: Thing[], isNew: (path: string) => boolean): Difference {
  const fresh = now.filter(({ path }) => isNew(path)).length
  return {
    count: before.length,
    bytes: before.reduce((sum, { facts }) => sum + (facts.bytes ?? 0), 0),
    fresh,
    // What is not new was taken before; the rest of that is taken no more.
    dropped: before.length - (now.length - fresh),
  }
}

/**
 * A selection in figures, small enough to travel to the interface however many things there are.
 *
 * @param than what other rules take, of before; what they don't take is new
 */
export function summarize({ taken, left, unnamed, byRule }: Selection, than?: Selection): SelectionSummary {
  const before = than && new Set(than.taken.map(({ path }) => path))
  const isNew = (path: string) => before !== undefined && !before.has(path)
  const leftOver = leftOverOf(unnamed)
  return {
    taken: few(taken, isNew),
    left: few(left),
    unnamed: few(unnamed),
    leftOver: leftOver.slice(0, FIRST),
    leftOverGroups: leftOver.length,
    than: than ? differenceOf(taken, than.taken, isNew) : null,
    rules: Object.fromEntries([...byRule].map(([id, { decides, names }]) => [id, { ...few(decides, isNew), names }])),
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
