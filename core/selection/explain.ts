import { namesOf, type Thing } from '../things/thing'
import { misfits, parseLabelSelector } from './labels'
import { labelsIn, select, type LabelsOf, type Rule } from './rules'

/** How one rule stands to one thing. */
export interface Explanation {
  rule: Rule
  /** `decides`, or `overruled` by a later one; `labels` keep it from naming the thing; or it names `other` things. */
  outcome: 'decides' | 'overruled' | 'labels' | 'other'
  /** For `labels`: what would have to change at the thing or its namespace, requirement by requirement. */
  why: string[]
}

const fits = (rule: Rule, thing: Thing, labelsOf: LabelsOf) => (select([rule], [thing], labelsOf).byRule.get(rule.id)?.names ?? 0) > 0

/** Why a thing is taken or left, rule by rule in their order, and what its labels would have to be for the others. */
export function explain(rules: Rule[], thing: Thing, labelsOf: LabelsOf): Explanation[] {
  const naming = rules.filter((rule) => fits(rule, thing, labelsOf))
  return rules.map((rule) => {
    if (naming.includes(rule)) return { rule, outcome: rule === naming.at(-1) ? 'decides' : 'overruled', why: [] }
    const { labels, ...bare } = rule
    if (!labels || !fits(bare, thing, labelsOf)) return { rule, outcome: 'other', why: [] }
    const selector = parseLabelSelector(labels).selector ?? []
    const whose = rule.kind === 'namespace' ? `the namespace ${namesOf(thing.path)[1]}` : 'it'
    const why = misfits(selector, labelsOf(thing, rule.kind)).map((text) => text.replace(/^it has/, `${whose} has`))
    return { rule, outcome: 'labels', why }
  })
}

/** A thing that a rule would decide over with other labels: what they are instead, and what decides over it now. */
export interface KeptOut {
  path: string
  why: string[]
  /** The rule that decides over it as things are; null when none does. */
  now: Pick<Rule, 'id' | 'act' | 'pattern'> | null
}

/** The first of the things that are kept out of a rule, and how many there are. */
export interface KeptOutOf {
  things: KeptOut[]
  count: number
}

const MOST = 200

/** The things that only their labels, or those of their namespaces, keep out of a rule. */
export function keptOut(rules: Rule[], ruleId: string, things: readonly Thing[]): KeptOutOf {
  const rule = rules.find(({ id }) => id === ruleId)
  if (!rule?.labels) return { things: [], count: 0 }
  const { labels: _, ...bare } = rule
  const labelsOf = labelsIn(things)
  const named = (rule: Rule) => select([rule], things, labelsOf).byRule.get(ruleId)!.decides
  const has = new Set(named(rule))
  const candidates = named(bare).filter((thing) => !has.has(thing))
  const explained = candidates.slice(0, MOST).map((thing) => {
    const all = explain(rules, thing, labelsOf)
    const decides = all.find(({ outcome }) => outcome === 'decides')?.rule
    const now = decides ? { id: decides.id, act: decides.act, pattern: decides.pattern } : null
    return { path: thing.path, why: all.find(({ rule }) => rule.id === ruleId)!.why, now }
  })
  return { things: explained, count: candidates.length }
}
