import { CONTAINER_KINDS, namesOf, placeOf, type Thing, type ThingKind } from '../things/thing'
import { wildcardSource } from './wildcards'
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
  const expression = new RegExp(`^${wildcardSource(name).replaceAll('\\?', '.')}$`, 's')
  return (candidate) => expression.test(candidate)
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

/** Whether a pattern names something, as far as the names from the one at `from` on tell. */
function fits({ names: matchers }: Compiled, names: string[], from = 0): boolean {
  if (names.length < matchers.length) return false
  for (let i = from; i < matchers.length; i++) if (!matchers[i]!(names[i]!)) return false
  return true
}

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

/** How many names a place has: of a server its databases are places, of a cluster its namespaces. */
const PLACE = 2

interface Place {
  /** Rules that may name something in it, in their order. */
  rules: Compiled[]
  /** Whether some rule speaks of it; one with labels speaks of what has them, not of every place that it may find it in. */
  spoken: boolean
}

/** What of the rules concerns a place, found once for each: there are few places, and many things in them. */
function placesFor(compiled: Compiled[]): (path: string) => Place {
  const known = new Map<string, Place>()
  return (path) => {
    const place = placeOf(path)
    let found = known.get(place)
    if (!found) {
      const names = namesOf(place)
      const isWhole = names.length === PLACE
      const rules = compiled.filter(({ names: matchers }) => isWhole && matchers.slice(0, PLACE).every((matches, i) => matches(names[i]!)))
      found = { rules, spoken: rules.some(({ selector }) => selector.length === 0) }
      known.set(place, found)
    }
    return found
  }
}

/**
 * Evaluates rules over things. Containers are not selected themselves. Rules with a faulty pattern
 * (see `patternTrouble`) fit nothing.
 */
export function select(rules: Rule[], things: readonly Thing[], labelsOf: LabelsOf = labelsIn(things)): Selection {
  const compiled = rules.filter((rule) => !patternTrouble(rule)).map(compile)
  const byRule: Selection['byRule'] = new Map(rules.map((rule) => [rule.id, { decides: [], names: 0 }]))
  const selection: Selection = { taken: [], left: [], unnamed: [], byRule }
  const placeFor = placesFor(compiled)
  for (const thing of things) {
    if (CONTAINER_KINDS.has(thing.kind)) continue
    const place = placeFor(thing.path)
    const deciding = place.rules.length > 0 ? decide(place.rules, thing, labelsOf, byRule) : null
    if (deciding) {
      byRule.get(deciding.id)!.decides.push(thing)
      selection[deciding.act === 'take' ? 'taken' : 'left'].push(thing)
    } else if (place.spoken) selection.unnamed.push(thing)
  }
  return selection
}

/** The last rule of those for its place that names a thing. */
function decide(rules: Compiled[], thing: Thing, labelsOf: LabelsOf, byRule: Selection['byRule']): Rule | null {
  const ofCluster = isOfCluster(thing.kind)
  let names: string[] | undefined
  let deciding: Rule | null = null
  for (const one of rules) {
    const { rule, selector } = one
    if (one.ofCluster !== ofCluster) continue
    if (one.names.length > PLACE && !fits(one, (names ??= namesOf(thing.path)), PLACE)) continue
    if (selector.length > 0 && !fitsLabels(selector, labelsOf(thing, rule.kind))) continue
    byRule.get(rule.id)!.names++
    deciding = rule
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

/** Whether some rule may take something below a container: `takesFrom(rules, 'harbour-db', 'bookings')`. */
export function takesFrom(rules: Rule[], ...container: string[]): boolean {
  return rules.some((rule) => {
    if (rule.act !== 'take' || patternTrouble(rule)) return false
    const { names } = compile(rule)
    return container.every((name, i) => names[i]?.(name) ?? true)
  })
}
