import { CONTAINER_KINDS, namesOf, type Thing } from '../things/thing'

/** One line of *What*. Rules are read in order; the last one that fits a thing decides over it. */
export interface Rule {
  id: string
  act: 'take' | 'leave'
  /** What the pattern names: a database or schema with all that is in it, or single tables and other things. */
  kind: 'database' | 'schema' | 'thing'
  /** A path whose names may hold `*` (any run of characters) and `?` (one character). */
  pattern: string
}

export interface Selection {
  taken: Thing[]
  /** Named by a rule that leaves it. */
  left: Thing[]
  /** In a database that some rule speaks of, yet named by none. */
  unnamed: Thing[]
  /** By rule: the things over which it decides, and how many it names at all. */
  byRule: Map<string, { decides: Thing[]; names: number }>
}

const DEPTH = { database: 2, schema: 3, thing: 4 } as const

/** Why a pattern can't be used, in words, or undefined. */
export function patternTrouble(rule: Pick<Rule, 'kind' | 'pattern'>): string | undefined {
  const names = namesOf(rule.pattern)
  const depth = DEPTH[rule.kind]
  if (names.some((name) => name.trim() === '')) return 'A name in it is empty.'
  if (names.length !== depth) {
    const form = ['source', 'database', 'schema', 'name'].slice(0, depth).join('/')
    return `It needs ${depth} names, as in ${form}; it has ${names.length}.`
  }
  return undefined
}

function matcher(name: string): (candidate: string) => boolean {
  if (name === '*') return () => true
  if (!/[*?]/.test(name)) return (candidate) => candidate === name
  const source = name
    .replace(/[.+^${}()|[\]\\]/g, '\\$&')
    .replaceAll('*', '.*')
    .replaceAll('?', '.')
  const expression = new RegExp(`^${source}$`, 's')
  return (candidate) => expression.test(candidate)
}

interface Compiled {
  rule: Rule
  names: ((candidate: string) => boolean)[]
}

const compile = (rule: Rule): Compiled => ({ rule, names: namesOf(rule.pattern).map(matcher) })

function fits(compiled: Compiled, names: string[]): boolean {
  if (names.length < compiled.names.length) return false
  return compiled.names.every((matches, i) => matches(names[i]!))
}

/** Every rule that names the thing, in order; the last one decides. Empty when nothing names it. */
export function rulesNaming(rules: Rule[], path: string): Rule[] {
  const names = namesOf(path)
  return rules.filter((rule) => !patternTrouble(rule) && fits(compile(rule), names))
}

/**
 * Evaluates rules over things. Containers are not selected themselves. Rules with a faulty pattern
 * (see `patternTrouble`) fit nothing.
 */
export function select(rules: Rule[], things: Iterable<Thing>): Selection {
  const compiled = rules.filter((rule) => !patternTrouble(rule)).map(compile)
  const byRule: Selection['byRule'] = new Map(rules.map((rule) => [rule.id, { decides: [], names: 0 }]))
  const selection: Selection = { taken: [], left: [], unnamed: [], byRule }
  const speaksOf = databasesSpokenOf(compiled)
  for (const thing of things) {
    if (CONTAINER_KINDS.has(thing.kind)) continue
    const names = namesOf(thing.path)
    let deciding: Rule | undefined
    for (const candidate of compiled) {
      if (!fits(candidate, names)) continue
      deciding = candidate.rule
      byRule.get(deciding.id)!.names++
    }
    if (deciding) {
      byRule.get(deciding.id)!.decides.push(thing)
      selection[deciding.act === 'take' ? 'taken' : 'left'].push(thing)
    } else if (speaksOf(names)) {
      selection.unnamed.push(thing)
    }
  }
  return selection
}

function databasesSpokenOf(compiled: Compiled[]): (names: string[]) => boolean {
  return (names) => compiled.some(({ names: [source, database] }) => source!(names[0]!) && database!(names[1]!))
}

/** Whether some rule may take something below a container: `takesFrom(rules, 'harbour-db', 'bookings')`. */
export function takesFrom(rules: Rule[], ...container: string[]): boolean {
  return rules.some((rule) => {
    if (rule.act !== 'take' || patternTrouble(rule)) return false
    const { names } = compile(rule)
    return container.every((name, i) => names[i]?.(name) ?? true)
  })
}
