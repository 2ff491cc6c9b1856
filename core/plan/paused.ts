import { fitting } from '../selection/wildcards'
import type { VesselDefinition } from './definition'
import type { Pause } from './state'

/** What can be paused beside a vessel: everything, or a source, by its name. */
export type PausedThing = { of: 'everything' } | { of: 'source'; name: string }
export interface WiderPause {
  thing: PausedThing
  pause: Pause
}

/** Whether the rules of a definition take something from a source. */
export function takesFromSource({ rules }: Pick<VesselDefinition, 'rules'>): (source: string) => boolean {
  const patterns = rules.filter(({ act }) => act === 'take').map(({ pattern }) => fitting(pattern.split('/')[0]!, true))
  return (source) => patterns.some((fits) => fits(source))
}

/** By what a vessel is paused: everything, a source that its rules take from, or itself; the widest of them. */
export function pauseOf(own: Pause | null, definition: Pick<VesselDefinition, 'rules'>, wider: WiderPause[]): Pause | null {
  const all = wider.find(({ thing }) => thing.of === 'everything')
  if (all) return { ...all.pause, with: 'everything' }
  const takes = takesFromSource(definition)
  for (const { thing, pause } of wider) if (thing.of === 'source' && takes(thing.name)) return { ...pause, with: thing.name }
  return own
}
