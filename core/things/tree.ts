import { upwards } from './thing'

/** What a tree needs to know of a thing; things come in the order of the tree, each behind what it lies in. */
export interface TreeThing {
  path: string
  name: string
  isContainer: boolean
}

/**
 * Which things of a tree are to be seen, by their indices: with a text, those that are called so and all that they lie
 * in; without one, all that lies in nothing folded.
 */
export function seenOf(things: readonly TreeThing[], text: string, folded: ReadonlySet<string>): number[] {
  const wanted = text.trim().toLowerCase()
  return wanted ? calledSo(things, wanted) : outsideOf(things, folded)
}

function calledSo(things: readonly TreeThing[], wanted: string): number[] {
  const seen: number[] = []
  const above = new Set<string>()
  // From the end, so that what holds a thing comes after it.
  for (let i = things.length - 1; i >= 0; i--) {
    const { path, name, isContainer } = things[i]!
    const isCalledSo = !isContainer && name.toLowerCase().includes(wanted)
    if (isCalledSo) for (const ancestor of upwards(path).slice(1)) above.add(ancestor)
    if (isCalledSo || above.has(path)) seen.push(i)
  }
  return seen.reverse()
}

function outsideOf(things: readonly TreeThing[], folded: ReadonlySet<string>): number[] {
  const seen: number[] = []
  let within: string | null = null
  for (const [i, { path }] of things.entries()) {
    if (within !== null && path.startsWith(within)) continue
    within = folded.has(path) ? `${path}/` : null
    seen.push(i)
  }
  return seen
}
