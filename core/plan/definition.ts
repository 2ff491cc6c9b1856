import type { Rule } from '../selection/rules'
import { patternTrouble } from '../selection/rules'
import type { Promises } from './state'

/** What a person defines of a vessel; saved as numbered versions, never changed afterwards. */
export interface VesselDefinition {
  rules: Rule[]
  store: string
  promises: Promises
  /** Parallel readers per source. */
  readers: number
}

export const READERS = { min: 1, max: 16, default: 2 } as const

/** What keeps a definition from being saved, in words; empty when nothing does. */
export function definitionTroubles(definition: VesselDefinition): string[] {
  const troubles: string[] = []
  if (!definition.rules.some((rule) => rule.act === 'take')) troubles.push('No rule takes anything.')
  for (const rule of definition.rules) {
    const trouble = patternTrouble(rule)
    if (trouble) troubles.push(`The rule “${rule.act} ${rule.kind} ${rule.pattern}” can’t be used. ${trouble}`)
  }
  if (!definition.store) troubles.push('No store is chosen.')
  const { min, max } = READERS
  if (!Number.isInteger(definition.readers) || definition.readers < min || definition.readers > max) {
    troubles.push(`Readers must be a whole number from ${min} to ${max}.`)
  }
  return troubles
}
