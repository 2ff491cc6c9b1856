/** How much something took up: milliseconds since 1970, and bytes. */
export type Filled = [at: number, bytes: number]

const APART_MS = 30_000
const MOST = 60
const SHORTEST_MS = 2 * 60_000

/**
 * Adds a measurement to those of a climb, half a minute apart at the least. A fall begins anew: what was kept was let go.
 */
export function measured(before: readonly Filled[], at: number, bytes: number): Filled[] {
  const last = before.at(-1)
  if (!last || bytes < last[1]) return [[at, bytes]]
  const isSoon = before.length > 1 && at - before.at(-2)![0] < APART_MS
  return [...(isSoon ? before.slice(0, -1) : before), [at, bytes] as Filled].slice(-MOST)
}

export interface Climb {
  /** How long it has been climbing without a fall, in milliseconds. */
  forMs: number
  bytesPerSecond: number
  /** When it reaches the limit at that rate. */
  fullAt: Date
}

/** Where a climb leads at its present rate; null while it does not climb, or not for long enough to say. */
export function climbTo(limit: number, climb: readonly Filled[]): Climb | null {
  const [first, last] = [climb[0], climb.at(-1)]
  if (!first || !last) return null
  const forMs = last[0] - first[0]
  const bytesPerSecond = ((last[1] - first[1]) / forMs) * 1000
  if (forMs < SHORTEST_MS || bytesPerSecond <= 0) return null
  return { forMs, bytesPerSecond, fullAt: new Date(last[0] + Math.max(0, (limit - last[1]) / bytesPerSecond) * 1000) }
}

export interface LogFull {
  at: Date
  /** What is reached first: how much the source may keep for us, or all that its disk takes. */
  by: 'limit' | 'disk'
  forMs: number
}

/** When a source's log is full at the present rate, of a follower as it was measured; null where it does not grow. */
export function logFullAt(climb: readonly Filled[], free: number | null, keepAtMost: number): LogFull | null {
  const kept = climb.at(-1)?.[1] ?? 0
  const disk = free === null ? Infinity : kept + free
  const found = climbTo(Math.min(keepAtMost, disk), climb)
  return found && { at: found.fullAt, by: disk < keepAtMost ? 'disk' : 'limit', forMs: found.forMs }
}
