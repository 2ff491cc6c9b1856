import { namesOf, type Thing } from '../things/thing'
import { misfits, parseLabelSelector } from './labels'
import { select, type LabelsOf, type Rule } from './rules'

/** How one rule stands to one thing. */
export interface Explanation {
  rule: Rule
  /** `decides`, or `overruled` by a later one; `labels` keep it from naming the thing; or it names `other` things. */
  outcome: 'decides' | 'overruled' | 'labels' | 'other'
  /** For `labels`: what would have to change at the thing or its namespace, requirement by requirement. */
  why: string[]
}

/** Why a thing is taken or left, rule by rule in their order, and what its labels would have to be for the others. */
export function explain(rules: Rule[], thing: Thing, labelsOf: LabelsOf): Explanation[] {
  const fits = (rule: Rule) => (select([rule], [thing], labelsOf).byRule.get(rule.id)?.names ?? 0) > 0
  const naming = rules.filter(fits)
  return rules.map((rule) => {
    if (naming.includes(rule)) return { rule, outcome: rule === naming.at(-1) ? 'decides' : 'overruled', why: [] }
    const { labels, ...bare } = rule
    if (!labels || !fits(bare)) return { rule, outcome: 'other', why: [] }
    const selector = parseLabelSelector(labels).selector ?? []
    const whose = rule.kind === 'namespace' ? `the namespace ${namesOf(thing.path)[1]}` : 'it'
    return {
      rule,
      outcome: 'labels',
      why: misfits(selector, labelsOf(thing, rule.kind)).map((text) => text.replace(/^it has/, `${whose} has`)),
    }
  })
}
