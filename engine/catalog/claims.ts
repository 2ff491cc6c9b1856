import { labelsIn, select } from '../../core/selection/rules'
import type { EngineContext } from '../context'
import { thingsPresent, type FoundThing } from './sources'
import { allVessels } from './vessels'

/** Which vessel takes a thing, and by which of its rules. */
export interface Claim {
  slug: string
  vessel: string
  rule: string
}

export interface Claimed {
  things: FoundThing[]
  /** By path. A thing that two vessels take has two claims. */
  claims: Map<string, Claim[]>
}

/** Everything that discovery found, and who claims it. */
export async function claimed(engine: EngineContext, source?: string): Promise<Claimed> {
  const [things, vessels] = await Promise.all([thingsPresent(engine, source), allVessels(engine)])
  const claims: Claimed['claims'] = new Map()
  const labelsOf = labelsIn(things)
  for (const { slug, name, definition } of vessels) {
    const { byRule } = select(definition.rules, things, labelsOf)
    for (const rule of definition.rules) {
      if (rule.act !== 'take') continue
      for (const { path } of byRule.get(rule.id)?.decides ?? []) {
        const claim = { slug, vessel: name, rule: rule.pattern }
        claims.set(path, [...(claims.get(path) ?? []), claim])
      }
    }
  }
  return { things, claims }
}
