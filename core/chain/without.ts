import { Chains, commonStretches, type Artifact, type CaughtUp, type DateRange, type RecoveryPoint } from './chain'

/** What decides what of a vessel can be restored. */
export interface Lanes {
  /** What the points consist of. */
  marks: Artifact[]
  points: RecoveryPoint[]
  logs: Artifact[]
  caughtUp: CaughtUp[]
}

/** What goes with points, and what can't be entered without them. */
export interface Without {
  /** The points, and those that build on them. */
  points: string[]
  artifacts: Artifact[]
  /** Where every moment can be entered now, and none then. */
  lost: DateRange[]
}

/**
 * What deleting points takes away: everything that builds on them goes, too, and moments of the log that are entered from them.
 */
export function withoutPoints({ marks, points, logs, caughtUp }: Lanes, ids: string[]): Without {
  const children = new Map<string, string[]>()
  for (const mark of marks) if (mark.parent) children.set(mark.parent, [...(children.get(mark.parent) ?? []), mark.id])
  const holders = new Map<string, RecoveryPoint[]>()
  for (const point of points) for (const artifact of point.artifacts) holders.set(artifact, [...(holders.get(artifact) ?? []), point])
  const going = new Map<string, RecoveryPoint>()
  const asked = new Set(ids)
  const waiting = points.filter((point) => asked.has(point.id))
  for (let point = waiting.pop(); point; point = waiting.pop()) {
    if (going.has(point.id)) continue
    going.set(point.id, point)
    for (const artifact of point.artifacts) for (const child of children.get(artifact) ?? []) waiting.push(...(holders.get(child) ?? []))
  }
  const gone = new Set([...going.values()].flatMap(({ artifacts }) => artifacts))
  const left = marks.filter((mark) => !gone.has(mark.id))
  return {
    points: [...going.keys()],
    artifacts: marks.filter((mark) => gone.has(mark.id)),
    lost: lostMoments({ marks, logs, caughtUp }, { marks: left, logs }),
  }
}

/** Where every moment of a vessel can be entered now, and none with what is left. */
export function lostMoments({ marks, logs, caughtUp }: Omit<Lanes, 'points'>, left: { marks: Artifact[]; logs: Artifact[] }): DateRange[] {
  const members = [...new Set(marks.map(({ member }) => member))]
  const stretches = (of: { marks: Artifact[]; logs: Artifact[] }) => {
    const chains = new Chains([...of.marks, ...of.logs], caughtUp)
    return commonStretches(members.map((member) => chains.coverage(member))).filter(({ from, to }) => to > from)
  }
  return minus(stretches({ marks, logs }), stretches(left))
}

/** What of some stretches lies in none of others. Both ascend. */
export function minus(all: DateRange[], others: DateRange[]): DateRange[] {
  return others.reduce(
    (rest, other) =>
      rest.flatMap(({ from, to }) => {
        if (other.to <= from || other.from >= to) return [{ from, to }]
        const before = other.from > from ? [{ from, to: other.from }] : []
        return other.to < to ? [...before, { from: other.to, to }] : before
      }),
    all,
  )
}
