import type { Artifact, RecoveryPoint } from '../chain/chain'
import type { Stays } from '../chain/stays'
import { longer, type Keeping } from './keep'

/** In which time every moment of a log stays, in milliseconds: from when on now, and for how long each. */
export interface LogTime {
  from: number
  forMs: number
}

/**
 * How long each point stays, with what keeps it beside its own reasons: the log of its time, and points that build on it.
 *
 * @param points ascending by time
 */
export function withNeeds(
  keeping: ReadonlyMap<string, Keeping>,
  stays: Stays['points'],
  { marks, points }: { marks: Artifact[]; points: Pick<RecoveryPoint, 'id' | 'artifacts' | 'at'>[] },
  log: LogTime | null,
): Map<string, Keeping> {
  const parentOf = new Map(marks.map(({ id, parent }) => [id, parent]))
  const holderOf = new Map(points.flatMap(({ id, artifacts }) => artifacts.map((artifact) => [artifact, id] as const)))
  const result = new Map<string, Keeping>()
  let newer: number | null = null
  for (const { id, artifacts, at } of [...points].reverse()) {
    const why = stays.get(id)
    if (why === undefined) continue
    const time = at.getTime()
    const own = keeping.get(id)
    // Before that time, it is entered from this one until the next is old enough.
    const logged = log && (time >= log.from ? time : why === 'log' ? newer : null)
    const byLog = log && logged !== null && logged !== undefined ? { by: { kind: 'log' as const }, until: logged + log.forMs } : undefined
    const all = [own, byLog, result.get(id)].filter((reason) => reason !== undefined)
    const kept = all.reduce<Keeping | undefined>(longer, undefined) ?? { by: { kind: why === 'log' ? 'log' : 'needed' }, until: null }
    result.set(id, kept)
    for (const artifact of artifacts) {
      const holder = holderOf.get(parentOf.get(artifact) ?? '')
      if (holder !== undefined) result.set(holder, longer(result.get(holder), { by: { kind: 'needed' }, until: kept.until }))
    }
    newer = time
  }
  return result
}
