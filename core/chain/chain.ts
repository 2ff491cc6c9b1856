import { positionOf } from './position'

export type ArtifactKind = 'full' | 'differential' | 'incremental' | 'log' | 'synthetic'

/**
 * What one member yielded once. A full is the state at `to`; a differential and an incremental lead from their
 * parent to `to`; a log holds every transaction after `from` up to `to`.
 */
export interface Artifact {
  id: string
  member: string
  kind: ArtifactKind
  /** The artifact it builds upon; fulls, synthetic fulls and logs have none. */
  parent: string | null
  /** Position of the source where it begins; that of `to` for fulls. */
  from: string
  to: string
  fromAt: Date
  /** The moment of `to`. */
  at: Date
  /**
   * Which history of the source its positions belong to: a server that was put back to an earlier state gives the
   * same positions to other transactions.
   */
  era: string
  rows: number
  bytes: number
  /** Bytes that it added to the store. */
  stored: number
  /** Something of it can't be read any more. */
  damaged?: boolean
}

export interface RecoveryPoint {
  id: string
  at: Date
  name: string | null
  /** Whether everything was captured that was to be; a partial point counts only where nothing else is. */
  complete: boolean
  artifacts: string[]
}

/** A stretch at the end of a member's log in which it is known to have changed nothing. */
export interface CaughtUp {
  member: string
  /** The history of the source that its positions belong to. */
  era: string
  /** Where the log, or the full that it leads on from, ends. */
  from: string
  to: string
  fromAt: Date
  at: Date
}

/** The artifacts to read for one member: its full, what leads on from it, then logs. */
export interface Chain {
  member: string
  artifacts: Artifact[]
  /** The moment at which the member then stands. */
  at: Date
  /** Whether that is the very moment that was asked for, and not the last mark before it. */
  exact: boolean
}

/** A stretch of time in which every moment can be entered; a single mark where it has no length. */
export interface DateRange {
  from: Date
  to: Date
}

interface Mark {
  artifact: Artifact
  to: bigint
}

interface LogSpan {
  artifact: Artifact
  from: bigint
  to: bigint
}

/** Logs without anything missing between them. */
interface UnbrokenLog {
  from: bigint
  to: bigint
  /** Indexes into the segments. */
  first: number
  last: number
  until: number
}

/** Index of the last one, between `from` and `to`, for which the condition still holds; one before `from` if it never does. */
const last = <T>(sorted: readonly T[], holds: (item: T) => boolean, from = 0, to = sorted.length): number => {
  let [low, high] = [from, to]
  while (low < high) {
    const middle = (low + high) >> 1
    if (holds(sorted[middle]!)) low = middle + 1
    else high = middle
  }
  return low - 1
}

const byPosition = (a: bigint, b: bigint) => (a < b ? -1 : a > b ? 1 : 0)

const STILL = ''

/** Nothing that was changed is a log without content: it leads on as any other does, and is not read. */
function segmentOf({ member, era, from, to, fromAt, at }: CaughtUp): LogSpan {
  const artifact: Artifact = { id: STILL, member, kind: 'log', parent: null, from, to, fromAt, at, era, rows: 0, bytes: 0, stored: 0 }
  return { artifact, from: positionOf(from)!, to: positionOf(to)! }
}

/** What one member yielded in one history of its source. */
class Era {
  private readonly byId = new Map<string, Artifact>()
  private readonly marks: Mark[] = []
  private readonly marksByTime: Artifact[]
  private readonly segments: LogSpan[] = []
  private readonly runs: UnbrokenLog[] = []
  private readonly paths = new Map<string, Artifact[] | null>()

  constructor(
    private readonly member: string,
    readonly name: string,
    artifacts: Artifact[],
    caughtUp: CaughtUp | undefined,
  ) {
    for (const artifact of artifacts) {
      if (artifact.damaged) continue
      const to = positionOf(artifact.to) ?? 0n
      if (artifact.kind === 'log') this.segments.push({ artifact, from: positionOf(artifact.from) ?? 0n, to })
      else {
        this.byId.set(artifact.id, artifact)
        this.marks.push({ artifact, to })
      }
    }
    if (caughtUp) this.segments.push(segmentOf(caughtUp))
    this.marks.sort((a, b) => byPosition(a.to, b.to) || a.artifact.at.getTime() - b.artifact.at.getTime())
    this.marksByTime = this.marks.map(({ artifact }) => artifact).sort((a, b) => a.at.getTime() - b.at.getTime())
    this.segments.sort((a, b) => byPosition(a.from, b.from) || byPosition(a.to, b.to))
    this.join()
  }

  private join(): void {
    for (const [i, { from, to, artifact }] of this.segments.entries()) {
      const run = this.runs.at(-1)
      if (run && from === run.to) Object.assign(run, { to, last: i, until: Math.max(run.until, artifact.at.getTime()) })
      else this.runs.push({ from, to, first: i, last: i, until: artifact.at.getTime() })
    }
  }

  /** The artifacts that make up a mark; null when something of it is missing. */
  private pathTo(mark: Artifact): Artifact[] | null {
    const known = this.paths.get(mark.id)
    if (known !== undefined) return known
    const path: Artifact[] = []
    const seen = new Set<string>()
    let result: Artifact[] | null = null
    for (let at: Artifact | undefined = mark; at && !seen.has(at.id); at = this.byId.get(at.parent)) {
      seen.add(at.id)
      path.unshift(at)
      if (at.parent === null) {
        result = path
        break
      }
    }
    this.paths.set(mark.id, result)
    return result
  }

  /** The newest whole mark at a position of at most `to` and at least `from`. */
  private markBefore(to: bigint, from: bigint, at = Infinity): { mark: Mark; path: Artifact[] } | undefined {
    for (let i = last(this.marks, (mark) => mark.to <= to); i >= 0 && this.marks[i]!.to >= from; i--) {
      const mark = this.marks[i]!
      if (mark.artifact.at.getTime() > at) continue
      const path = this.pathTo(mark.artifact)
      if (path) return { mark, path }
    }
    return undefined
  }

  private chain(path: Artifact[], from: bigint, to: number, at: Date, exact: boolean): Chain {
    const first = last(this.segments, (segment) => segment.from <= from)
    // What ends at or before the mark has nothing to add.
    const logs = to < 0 ? [] : this.segments.slice(Math.max(0, first), to + 1).filter((segment) => segment.to > from)
    const known = logs.map(({ artifact }) => artifact).filter(({ id }) => id !== STILL)
    return { member: this.member, artifacts: [...path, ...known], at, exact }
  }

  to(position: bigint): Chain | undefined {
    const run = this.runs[last(this.runs, ({ from }) => from <= position)]
    if (run && position <= run.to) {
      const found = this.markBefore(position, run.from)
      if (found) {
        const { to } = found.mark
        const end = position === to ? -1 : this.endOf(run, position)
        return this.chain(found.path, to, end, end < 0 ? found.mark.artifact.at : this.segments[end]!.artifact.at, true)
      }
    }
    const found = this.markBefore(position, position)
    return found && this.chain(found.path, found.mark.to, -1, found.mark.artifact.at, true)
  }

  /** The segment of a run that holds a position. */
  private endOf(run: UnbrokenLog, position: bigint): number {
    let i = last(this.segments, ({ from }) => from < position)
    while (i > run.first && this.segments[i]!.from >= position) i--
    return i
  }

  at(moment: Date): Chain | undefined {
    const time = moment.getTime()
    let ended: Chain | undefined
    for (let i = last(this.runs, (run) => this.segments[run.first]!.artifact.fromAt.getTime() <= time); i >= 0; i--) {
      const run = this.runs[i]!
      if (run.until < time) {
        const found = this.markBefore(run.to, run.from)
        if (!found) continue
        const end = found.mark.to >= run.to ? -1 : run.last
        const at = Math.max(run.until, found.mark.artifact.at.getTime())
        if (at <= time) ended = this.chain(found.path, found.mark.to, end, new Date(at), false)
        break
      }
      const end = Math.min(run.last, last(this.segments, ({ artifact }) => artifact.at.getTime() < time, run.first, run.last + 1) + 1)
      const found = this.markBefore(this.segments[end]!.to, run.from, time)
      if (found) return this.chain(found.path, found.mark.to, found.mark.to >= this.segments[end]!.to ? -1 : end, moment, true)
    }
    for (let i = last(this.marksByTime, ({ at }) => at.getTime() <= time); i >= 0; i--) {
      const mark = this.marksByTime[i]!
      const path = this.pathTo(mark)
      if (!path) continue
      const chain = { member: this.member, artifacts: path, at: mark.at, exact: mark.at.getTime() === time }
      return !ended || chain.exact || ended.at < chain.at ? chain : ended
    }
    return ended
  }

  /** Up to when there is any log. */
  get loggedUntil(): number {
    return this.runs.reduce((until, run) => Math.max(until, run.until), -Infinity)
  }

  /** The fulls, by time. */
  get fulls(): Artifact[] {
    return this.marksByTime.filter(({ kind }) => kind === 'full' || kind === 'synthetic')
  }

  /** The mark from which a moment of its log is entered, where it can be: then log from it on is needed. */
  baseAt(moment: Date): Artifact | undefined {
    const chain = this.loggedUntil >= moment.getTime() ? this.at(moment) : undefined
    return chain?.exact ? chain.artifacts.findLast(({ kind }) => kind !== 'log') : undefined
  }

  coverage(): DateRange[] {
    const stretches: DateRange[] = []
    const inRun = new Set<Artifact>()
    for (const run of this.runs) {
      let from: Date | undefined
      for (let i = last(this.marks, (mark) => mark.to < run.from) + 1; i < this.marks.length && this.marks[i]!.to <= run.to; i++) {
        const { artifact } = this.marks[i]!
        if (!this.pathTo(artifact)) continue
        inRun.add(artifact)
        if (!from || artifact.at < from) from = artifact.at
      }
      if (from) stretches.push({ from, to: new Date(Math.max(run.until, from.getTime())) })
    }
    for (const mark of this.marksByTime) if (!inRun.has(mark) && this.pathTo(mark)) stretches.push({ from: mark.at, to: mark.at })
    return stretches
  }
}

/**
 * Decides what is restorable, for the lifeline, for promises, for retention and for restores: a moment is when an
 * unbroken path of artifacts leads to it.
 */
export class Chains {
  /** The newest era of each member first. */
  private readonly eras = new Map<string, Era[]>()

  constructor(artifacts: Iterable<Artifact>, caughtUp: CaughtUp[] = []) {
    const byMember = new Map<string, Map<string, Artifact[]>>()
    for (const artifact of artifacts) {
      const eras = byMember.get(artifact.member) ?? new Map<string, Artifact[]>()
      byMember.set(artifact.member, eras)
      const list = eras.get(artifact.era)
      if (list) list.push(artifact)
      else eras.set(artifact.era, [artifact])
    }
    for (const [member, eras] of byMember) {
      const newest = (list: Artifact[]) => list.reduce((time, { at }) => Math.max(time, at.getTime()), 0)
      const sorted = [...eras].sort(([, a], [, b]) => newest(b) - newest(a))
      const stillOf = (name: string) => caughtUp.find((still) => still.member === member && still.era === name)
      this.eras.set(
        member,
        sorted.map(([name, list]) => new Era(member, name, list, stillOf(name))),
      )
    }
  }

  /** The chain to the newest state of a member at or before a moment; undefined if no unbroken one leads to any. */
  at(member: string, moment: Date): Chain | undefined {
    const found = (this.eras.get(member) ?? []).flatMap((era) => era.at(moment) ?? [])
    return found.find(({ exact }) => exact) ?? found.reduce<Chain | undefined>((a, b) => (a && a.at >= b.at ? a : b), undefined)
  }

  /**
   * The chain to exactly a position; undefined if none leads there, or if it is no position at all. Of several eras
   * that have it, it is the one that had it closest to `near`, or else the newest.
   */
  to(member: string, position: string, near: Date | null = null): Chain | undefined {
    const found = this.allTo(member, position)
    if (near === null || found.length < 2) return found[0]
    const distance = ({ at }: Chain) => Math.abs(at.getTime() - near.getTime())
    return found.reduce((a, b) => (distance(b) < distance(a) ? b : a))
  }

  /** The chain to exactly a position of one era. */
  inEra(member: string, era: string, position: string): Chain | undefined {
    return this.allTo(member, position, era)[0]
  }

  /** The chains to a position in every era that has it, or in one; the newest first. */
  private allTo(member: string, position: string, only?: string): Chain[] {
    const parsed = positionOf(position)
    if (parsed === undefined) return []
    const eras = (this.eras.get(member) ?? []).filter(({ name }) => only === undefined || name === only)
    return eras.flatMap((era) => era.to(parsed) ?? [])
  }

  /** Whether there is log of any member at or after a moment. */
  hasLogSince(moment: Date): boolean {
    return [...this.eras.values()].some((eras) => eras.some(({ loggedUntil }) => loggedUntil >= moment.getTime()))
  }

  /**
   * The log of a member that must stay so that every moment from one on can be entered as before, and so that a
   * differential can be made of it: that from its newest full on.
   */
  logFrom(member: string, moment: Date): LogFrom {
    const eras = this.eras.get(member) ?? []
    const bases = eras.flatMap((era) => era.baseAt(moment) ?? [])
    const fulls = eras.flatMap((era) => era.fulls.at(-1) ?? [])
    const newest = fulls.reduce<Artifact | undefined>((a, b) => (a && a.at >= b.at ? a : b), undefined)
    const from = newest && newest.at < moment ? newest.at : moment
    return { member, from, bases: newest ? [...bases, newest] : bases }
  }

  /** The stretches in which every moment of a member can be entered, ascending. */
  coverage(member: string): DateRange[] {
    return (this.eras.get(member) ?? []).flatMap((era) => era.coverage()).sort((a, b) => a.from.getTime() - b.from.getTime())
  }
}

/** A segment of log stays if it ends at or after `from`, or after one of the bases in the base's history. */
export interface LogFrom {
  member: string
  from: Date
  bases: Artifact[]
}

export interface Moment {
  chains: Chain[]
  /** Members that can't be restored to this moment at all. */
  missing: string[]
  /** The point that all chains come from, if they come from one and no log leads on from it. */
  point: RecoveryPoint | undefined
}

/** What can be restored at a moment: a chain for each member, and the point they make if they make one. */
export function momentOf(members: string[], chains: Chains, points: RecoveryPoint[], moment: Date): Moment {
  const found = members.flatMap((member) => chains.at(member, moment) ?? [])
  const has = new Set(found.map((chain) => chain.member))
  const tips = found.map((chain) => chain.artifacts.at(-1)!.id)
  const point = points.find((p) => tips.length > 0 && tips.every((tip) => p.artifacts.includes(tip)))
  return { chains: found, missing: members.filter((member) => !has.has(member)), point }
}

/** Stretches in which every member can be entered; none where there are no members. */
export function commonStretches(all: DateRange[][]): DateRange[] {
  if (all.length === 0) return []
  return all.reduce((common, stretches) =>
    common.flatMap((a) =>
      stretches.flatMap((b) => {
        const [from, to] = [Math.max(a.from.getTime(), b.from.getTime()), Math.min(a.to.getTime(), b.to.getTime())]
        return from <= to ? [{ from: new Date(from), to: new Date(to) }] : []
      }),
    ),
  )
}
