import { Chains, commonStretches, type Artifact, type CaughtUp, type DateRange, type RecoveryPoint } from './chain'

/** What goes with a point, and what can't be entered without it. */
export interface Without {
  /** The point, and those that build on it. */
  points: string[]
  artifacts: Artifact[]
  /** Where every moment can be entered now, and none then. */
  lost: DateRange[]
}

/**
 * What deleting a point takes away: everything that builds on it goes, too, and moments of the log that are entered from it.
 *
 * @param marks what the points consist of
 */
export function withoutPoint(
  { marks, points, logs, caughtUp }: { marks: Artifact[]; points: RecoveryPoint[]; logs: Artifact[]; caughtUp: CaughtUp[] },
  id: string,
): Without {
  const children = new Map<string, string[]>()
  for (const mark of marks) if (mark.parent) children.set(mark.parent, [...(children.get(mark.parent) ?? []), mark.id])
  const holders = new Map<string, RecoveryPoint[]>()
  for (const point of points) for (const artifact of point.artifacts) holders.set(artifact, [...(holders.get(artifact) ?? []), point])
  const going = new Map<string, RecoveryPoint>()
  const waiting = points.filter((point) => point.id === id)
  for (let point = waiting.pop(); point; point = waiting.pop()) {
    if (going.has(point.id)) continue
    going.set(point.id, point)
    for (const artifact of point.artifacts) for (const child of children.get(artifact) ?? []) waiting.push(...(holders.get(child) ?? []))
  }
  const gone = new Set([...going.values()].flatMap(({ artifacts }) => artifacts))
  const members = [...new Set(marks.map(({ member }) => member))]
  const stretches = (chains: Chains) =>
    commonStretches(members.map((member) => chains.coverage(member))).filter(({ from, to }) => to > from)
  const left = marks.filter((mark) => !gone.has(mark.id))
  return {
    points: [...going.keys()],
    artifacts: marks.filter((mark) => gone.has(mark.id)),
    lost: minus(stretches(new Chains([...marks, ...logs], caughtUp)), stretches(new Chains([...left, ...logs], caughtUp))),
  }
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
