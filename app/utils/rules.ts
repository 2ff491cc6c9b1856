import type { Rule } from '~~/core/selection/rules'
import { namesOf } from '~~/core/things/thing'

const KINDS = { 2: 'database', 3: 'schema', 4: 'thing' } as const
const OF_CLUSTERS = { 2: 'namespace', 3: 'namespace', 4: 'volume', 5: 'object' } as const

/** The rule that takes what lies at a path of a server or of a cluster. */
export function ruleFor(path: string, isCluster: boolean): Rule {
  const depth = Math.max(2, namesOf(path).length)
  const kind = isCluster ? OF_CLUSTERS[Math.min(5, depth) as 2 | 3 | 4 | 5] : KINDS[Math.min(4, depth) as 2 | 3 | 4]
  return { id: crypto.randomUUID(), act: 'take', kind, pattern: path }
}
