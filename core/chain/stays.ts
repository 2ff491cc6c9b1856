import type { Artifact, Chains, LogFrom, RecoveryPoint } from './chain'
import { positionOf } from './position'

/** After all times. */
const NEVER = new Date(8.64e15)

/** What of a vessel must stay. Whatever is not in it, nothing that was kept needs. */
export interface Stays {
  /** By point: whether it was kept itself, moments of the log are entered from it, or something that stays builds on it. */
  points: Map<string, 'kept' | 'log' | 'needed'>
  /** By member, which log stays. */
  logs: LogFrom[]
}

type HeldPoint = Pick<RecoveryPoint, 'id' | 'artifacts' | 'at'>

/**
 * What must stay of a vessel so that every kept point, and every moment of the log from one on, can be restored exactly
 * as before. A point goes as a whole, with all its members: a cycle leaves when nothing needs any of it.
 *
 * @param marks what its points consist of
 * @param chains of the marks and the logs
 * @param kept points that stay by themselves
 * @param moment from which on every moment of the log stays; points after it stay with it. Null: none stays
 */
export function staysOf(
  { marks, points }: { marks: Artifact[]; points: HeldPoint[] },
  chains: Chains,
  kept: ReadonlySet<string>,
  moment: Date | null,
): Stays {
  const parentOf = new Map<string, string>()
  const members = new Set<string>()
  for (const { id, parent, member } of marks) {
    members.add(member)
    if (parent !== null) parentOf.set(id, parent)
  }
  // Nearly every artifact belongs to one point.
  const holderOf = new Map<string, HeldPoint>()
  const more = new Map<string, HeldPoint[]>()
  for (const point of points)
    for (const artifact of point.artifacts)
      if (!holderOf.has(artifact)) holderOf.set(artifact, point)
      else more.set(artifact, [...(more.get(artifact) ?? []), point])
  const logs = [...members].map((member) => (moment ? chains.logFrom(member, moment) : { member, from: NEVER, bases: [] }))

  const stays: Stays = { points: new Map(), logs }
  const waiting: HeldPoint[] = []
  const add = (point: HeldPoint, why: 'kept' | 'log' | 'needed') => {
    if (stays.points.has(point.id)) return
    stays.points.set(point.id, why)
    waiting.push(point)
  }
  const isLogged = moment !== null && chains.hasLogSince(moment)
  for (const point of points) {
    if (kept.has(point.id)) add(point, 'kept')
    else if (isLogged && point.at >= moment) add(point, 'log')
  }
  const addHolders = (artifact: string, why: 'log' | 'needed') => {
    const holder = holderOf.get(artifact)
    if (holder) add(holder, why)
    for (const other of more.get(artifact) ?? []) add(other, why)
  }
  for (const { bases } of logs) for (const { id } of bases) addHolders(id, 'log')
  for (let point = waiting.pop(); point !== undefined; point = waiting.pop())
    for (const artifact of point.artifacts) {
      const parent = parentOf.get(artifact)
      if (parent !== undefined) addHolders(parent, 'needed')
    }
  return stays
}

/** Whether a segment of log stays. */
export function segmentStays({ from, bases }: LogFrom, segment: Pick<Artifact, 'at' | 'era' | 'to'>): boolean {
  if (segment.at >= from) return true
  const to = positionOf(segment.to) ?? 0n
  return bases.some((base) => base.era === segment.era && to > (positionOf(base.to) ?? 0n))
}
