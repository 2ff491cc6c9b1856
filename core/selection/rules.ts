import { CONTAINER_KINDS, lastName, namesOf, parentOf, placeOf, type Thing, type ThingKind } from '../things/thing'
import { fitting } from './wildcards'
import { fitsLabels, parseLabelSelector, type LabelSelector } from './labels'

/**
 * What a pattern names: of a server a database or schema with all that is in it, or single tables and other things;
 * of a cluster a namespace with all that is in it, objects, or volumes.
 */
export type RuleKind = 'database' | 'schema' | 'thing' | 'namespace' | 'object' | 'volume'

/** One line of *What*. Rules are read in order; the last one that fits a thing decides over it. */
export interface Rule {
  id: string
  act: 'take' | 'leave'
  kind: RuleKind
  /** A path whose names may hold `*` (any run of characters) and `?` (one character). */
  pattern: string
  /** A label selector that the namespace, the object or the volume must fit besides; only of clusters. */
  labels?: string
}

export interface Selection {
  taken: Thing[]
  /** Named by a rule that leaves it. */
  left: Thing[]
  /** In a database or namespace that some rule speaks of, yet named by none. */
  unnamed: Thing[]
  /** By rule: the things over which it decides, and how many it names at all. */
  byRule: Map<string, { decides: Thing[]; names: number }>
}

const FORMS: Record<RuleKind, readonly string[]> = {
  database: ['source', 'database'],
  schema: ['source', 'database', 'schema'],
  thing: ['source', 'database', 'schema', 'name'],
  namespace: ['source', 'namespace'],
  object: ['source', 'namespace', 'group', 'kind', 'name'],
  volume: ['source', 'namespace', 'volume', 'name'],
}
export const formOf = (kind: RuleKind): string => FORMS[kind].join('/')

const OF_CLUSTERS: ReadonlySet<string> = new Set<RuleKind | ThingKind>(['namespace', 'object', 'volume', 'cluster'])

/** Whether a rule, or a thing, is of clusters; the others are of database servers. */
export const isOfCluster = (kind: RuleKind | ThingKind): boolean => OF_CLUSTERS.has(kind)

/** Why a pattern or its labels can't be used, in words, or undefined. */
export function patternTrouble(rule: Pick<Rule, 'kind' | 'pattern' | 'labels'>): string | undefined {
  const names = namesOf(rule.pattern)
  const depth = FORMS[rule.kind].length
  if (names.some((name) => name.trim() === '')) return 'A name in it is empty.'
  if (names.length !== depth) return `It needs ${depth} names, as in ${formOf(rule.kind)}; it has ${names.length}.`
  if (rule.kind === 'volume' && names[2] !== 'volume') return `Its third name must be “volume”, as in ${formOf('volume')}.`
  if (!rule.labels) return undefined
  if (!isOfCluster(rule.kind)) return 'Only things of clusters have labels.'
  return parseLabelSelector(rule.labels).trouble ?? undefined
}

function matcher(name: string): (candidate: string) => boolean {
  // What belongs to no namespace is only taken by its name, or with what needs it.
  if (name === '*') return (candidate) => !candidate.startsWith('@')
  if (!/[*?]/.test(name)) return (candidate) => candidate === name
  if (/^[^*?]+\*$/.test(name)) return beginsWith(name.slice(0, -1))
  return fitting(name, true)
}

/** Most patterns are a beginning. Its last character tells nearly all others apart, sooner than an expression. */
function beginsWith(beginning: string): (candidate: string) => boolean {
  const [at, code] = [beginning.length - 1, beginning.charCodeAt(beginning.length - 1)]
  return (candidate) => candidate.charCodeAt(at) === code && candidate.startsWith(beginning)
}

interface Compiled {
  rule: Rule
  ofCluster: boolean
  names: ((candidate: string) => boolean)[]
  selector: LabelSelector
}

const compile = (rule: Rule): Compiled => ({
  rule,
  ofCluster: isOfCluster(rule.kind),
  names: namesOf(rule.pattern).map(matcher),
  selector: parseLabelSelector(rule.labels ?? '').selector ?? [],
})

const fits = ({ names: matchers }: Compiled, names: string[]): boolean =>
  names.length >= matchers.length && matchers.every((matches, i) => matches(names[i]!))

/** The labels that a rule asks about: those of the namespace for a rule that names one, else the thing's own. */
export type LabelsOf = (thing: Thing, kind: RuleKind) => Record<string, string>

export function labelsIn(things: Iterable<Thing>): LabelsOf {
  const namespaces = new Map<string, Record<string, string>>()
  for (const { kind, path, labels } of things) if (kind === 'namespace') namespaces.set(path, labels)
  return (thing, kind) => (kind === 'namespace' ? (namespaces.get(placeOf(thing.path)) ?? {}) : thing.labels)
}

/** Every rule that names the thing of a server, in order; the last one decides. Empty when nothing names it. */
export function rulesNaming(rules: Rule[], path: string): Rule[] {
  const names = namesOf(path)
  return rules.filter((rule) => !isOfCluster(rule.kind) && !patternTrouble(rule) && fits(compile(rule), names))
}

/** A rule that may name things of a folder, with what it is found to name. */
interface Candidate extends Omit<Compiled, 'names'> {
  /** What it asks of the last name; null when it names all that is in the folder. */
  last: ((name: string) => boolean) | null
  tally: { decides: Thing[]; names: number }
}

interface Folder {
  /** In the order of the rules. */
  candidates: Candidate[]
  /** Whether some rule speaks of its place; one with labels speaks of what has them, not of every place that it may find it in. */
  spoken: boolean
}

/** What of the rules concerns things by all of their names but the last, found once for each such path: of those there are few. */
function foldersFor(compiled: Compiled[], byRule: Selection['byRule']): (path: string) => Folder {
  const known = new Map<string, Folder>()
  const find = (path: string): Folder => {
    const names = namesOf(path)
    const fitting = compiled.filter(
      ({ names: matchers }) =>
        matchers.length <= names.length + 1 && matchers.every((matches, i) => i >= names.length || matches(names[i]!)),
    )
    // Written out, so that all of them have one form: spread, they are looked at eight times as slowly.
    const candidates = fitting.map(({ rule, ofCluster, names: matchers, selector }): Candidate => ({
      rule,
      ofCluster,
      selector,
      last: matchers[names.length] ?? null,
      tally: byRule.get(rule.id)!,
    }))
    return { candidates, spoken: isSpokenOf(compiled, names) }
  }
  return (path) => {
    let folder = known.get(path)
    if (!folder) known.set(path, (folder = find(path)))
    return folder
  }
}

const isSpokenOf = (compiled: Compiled[], [source, place]: string[]): boolean =>
  place !== undefined && compiled.some(({ names, selector }) => selector.length === 0 && names[0]!(source!) && names[1]!(place))

/**
 * Evaluates rules over things. Containers are not selected themselves. Rules with a faulty pattern
 * (see `patternTrouble`) fit nothing.
 */
export function select(rules: Rule[], things: readonly Thing[], labelsOf: LabelsOf = labelsIn(things)): Selection {
  const byRule: Selection['byRule'] = new Map(rules.map((rule) => [rule.id, { decides: [], names: 0 }]))
  const selection: Selection = { taken: [], left: [], unnamed: [], byRule }
  const folderOf = foldersFor(rules.filter((rule) => !patternTrouble(rule)).map(compile), byRule)
  for (const thing of things) {
    if (CONTAINER_KINDS.has(thing.kind)) continue
    const { candidates, spoken } = folderOf(parentOf(thing.path) ?? '')
    const deciding = candidates.length > 0 ? decide(candidates, thing, labelsOf) : null
    if (deciding) {
      deciding.tally.decides.push(thing)
      selection[deciding.rule.act === 'take' ? 'taken' : 'left'].push(thing)
    } else if (spoken) selection.unnamed.push(thing)
  }
  return selection
}

/** The last of some rules that names a thing. */
function decide(candidates: Candidate[], thing: Thing, labelsOf: LabelsOf): Candidate | null {
  const ofCluster = isOfCluster(thing.kind)
  const name = lastName(thing.path)
  let deciding: Candidate | null = null
  for (const candidate of candidates) {
    if (candidate.ofCluster !== ofCluster || (candidate.last && !candidate.last(name))) continue
    if (candidate.selector.length > 0 && !fitsLabels(candidate.selector, labelsOf(thing, candidate.rule.kind))) continue
    candidate.tally.names++
    deciding = candidate
  }
  return deciding
}

/** How much of what the rules take has a log: namespaces have none. All of it as long as they take nothing. */
export function loggedPart(rules: Rule[]): 'all' | 'some' | 'none' {
  const taking = rules.filter(({ act }) => act === 'take')
  const unlogged = taking.filter(({ kind }) => isOfCluster(kind)).length
  if (unlogged === 0) return 'all'
  return unlogged < taking.length ? 'some' : 'none'
}

/** Whether some rule may take something below a container: `takesFrom(rules, 'ferry-db', 'bookings')`. */
export function takesFrom(rules: Rule[], ...container: string[]): boolean {
  return rules.some((rule) => {
    if (rule.act !== 'take' || patternTrouble(rule)) return false
    const { names } = compile(rule)
    return container.every((name, i) => names[i]?.(name) ?? true)
  })
}
