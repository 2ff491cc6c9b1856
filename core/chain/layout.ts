/** Moments (milliseconds) and the stretch of the screen that shows them (pixels). */
export interface Scale {
  from: number
  to: number
  left: number
  right: number
}

export const toX = ({ from, to, left, right }: Scale, at: number) => left + ((at - from) / (to - from)) * (right - left)
export const toTime = ({ from, to, left, right }: Scale, x: number) => from + ((x - left) / (right - left)) * (to - from)

/** The same number of pixels over another stretch of time, with the moment under `x` staying there. */
export function zoomed(scale: Scale, x: number, factor: number, bounds: { least: number; most: number }): Scale {
  const span = Math.min(bounds.most, Math.max(bounds.least, (scale.to - scale.from) * factor))
  const at = toTime(scale, x)
  const share = (x - scale.left) / (scale.right - scale.left)
  return { ...scale, from: at - span * share, to: at + span * (1 - share) }
}

/** First index of a sorted list whose value is not below `at`. */
export function firstAtOrAfter(sorted: readonly number[], at: number): number {
  let [low, high] = [0, sorted.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if (sorted[middle]! < at) low = middle + 1
    else high = middle
  }
  return low
}

/** Marks that would overlap, drawn as one; `first` and `last` are indexes into the list. */
export interface Merged {
  x: number
  first: number
  last: number
}

/**
 * Lays marks out so that no two are nearer than `room` pixels. Only what is in view is looked at, and within
 * it the next mark is found by bisection, so the work follows the width of the screen, not the number of marks.
 */
export function mergeMarks(sorted: readonly number[], scale: Scale, room: number): Merged[] {
  const merged: Merged[] = []
  const end = firstAtOrAfter(sorted, toTime(scale, scale.right + room))
  const wide = toTime(scale, scale.left + room) - scale.from
  for (let i = firstAtOrAfter(sorted, toTime(scale, scale.left - room)); i < end;) {
    const next = Math.min(end, Math.max(i + 1, firstAtOrAfter(sorted, sorted[i]! + wide)))
    const x = (toX(scale, sorted[i]!) + toX(scale, sorted[next - 1]!)) / 2
    merged.push({ x, first: i, last: next - 1 })
    i = next
  }
  return merged
}

/** Steps of an axis, each a multiple of the one before, in milliseconds. */
const STEPS = [1e3, 5e3, 15e3, 3e4, 6e4, 3e5, 6e5, 18e5, 36e5, 108e5, 216e5, 432e5, 864e5, 1728e5, 6048e5, 26784e5, 80352e5, 315576e5]

/** The step for an axis on which labels need `room` pixels. */
export function axisStep({ from, to, left, right }: Scale, room: number): number {
  const least = ((to - from) / (right - left)) * room
  return STEPS.find((step) => step >= least) ?? STEPS.at(-1)!
}

/** Moments for an axis, on round times of a zone that is `offset` milliseconds ahead of UTC. */
export function axisTicks(scale: Scale, step: number, offset: number): number[] {
  const ticks: number[] = []
  for (let at = Math.ceil((scale.from + offset) / step) * step - offset; at <= scale.to; at += step) ticks.push(at)
  return ticks
}
