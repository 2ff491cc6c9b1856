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
  { marks, points }: { marks: Artifact[]; points: Pick<RecoveryPoint, 'id' | 'artifacts' | 'at'>[] },
  chains: Chains,
  kept: ReadonlySet<string>,
  moment: Date | null,
): Stays {
  const parentOf = new Map<string, string>()
  for (const { id, parent } of marks) if (parent !== null) parentOf.set(id, parent)
  // Nearly every artifact belongs to one point.
  const holderOf = new Map<string, string>()
  const more: [artifact: string, point: string][] = []
  for (const { id, artifacts } of points)
    for (const artifact of artifacts)
      if (holderOf.has(artifact)) more.push([artifact, id])
      else holderOf.set(artifact, id)
  const pointOf = new Map(points.map((point) => [point.id, point]))
  const members = [...new Set(marks.map(({ member }) => member))]
  const logs = members.map((member) => (moment ? chains.logFrom(member, moment) : { member, from: NEVER, bases: [] }))

  const stays: Stays = { points: new Map(), logs }
  const waiting: string[] = []
  const add = (id: string, why: 'kept' | 'log' | 'needed') => {
    if (stays.points.has(id)) return
    stays.points.set(id, why)
    waiting.push(id)
  }
  const isLogged = moment !== null && chains.hasLogSince(moment)
  for (const { id, at } of points) {
    if (kept.has(id)) add(id, 'kept')
    else if (isLogged && at >= moment) add(id, 'log')
  }
  const addHolders = (artifact: string, why: 'log' | 'needed') => {
    const holder = holderOf.get(artifact)
    if (holder !== undefined) add(holder, why)
    for (const [held, other] of more) if (held === artifact) add(other, why)
  }
  for (const { bases } of logs) for (const { id } of bases) addHolders(id, 'log')
  for (let id = waiting.pop(); id !== undefined; id = waiting.pop())
    for (const artifact of pointOf.get(id)!.artifacts) {
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
