import { dueTimes, spreadOf } from './due'
import type { BackupKind, Makes, PlanLine, Schedule } from './schedule'

/** Where a point stands in its line of a plan: the third of seven, counted from one. */
export interface Place {
  what: BackupKind
  place: number
  of: number
}

/** How the newest run of a line ended that is over. */
export interface LastOfLine {
  place: number
  of: number
  isDone: boolean
}

/**
 * What a line makes next. What came to nothing is made again; a cycle that got another length, or whose first point is
 * missing, begins anew.
 */
export function nextPlace(makes: Makes, last: LastOfLine | null): Place {
  if (makes.kind === 'each') return { what: makes.what, place: 1, of: 1 }
  const { points: of, first, rest } = makes
  const isSame = last !== null && last.of === of
  const place = !isSame ? 1 : last.isDone ? (last.place % of) + 1 : last.place
  return { what: place === 1 ? first : rest, place, of }
}

/** What a line will make from a moment on, if nothing comes between: with real times, ascending. */
export function* comingPlaces(
  schedule: Pick<Schedule, 'zone' | 'from'>,
  line: Pick<PlanLine, 'times' | 'makes'>,
  last: LastOfLine | null,
  after: number,
): Generator<Place & { at: number }> {
  let before = last
  for (const at of dueTimes(schedule, line, after)) {
    const next = nextPlace(line.makes, before)
    before = { ...next, isDone: true }
    yield { ...next, at }
  }
}

/** A run that a plan makes, and of which line. */
export interface PlannedRun extends Place {
  at: number
  line: PlanLine
}

/**
 * What the lines of a plan make from now on, ascending, each within its window at the time that this vessel has there.
 *
 * @param last by line, what it made last
 * @param vessel its id
 * @param within up to which time, and how many of a line at most
 */
export function plannedRuns(
  schedule: Schedule,
  last: Record<string, LastOfLine>,
  vessel: string,
  now: number,
  { until, perLine = Infinity }: { until: number; perLine?: number },
): PlannedRun[] {
  const all = schedule.lines.flatMap((line) => {
    const spread = spreadOf(line, vessel)
    const found: PlannedRun[] = []
    for (const { at, ...place } of comingPlaces(schedule, line, last[line.id] ?? null, now - spread)) {
      if (at + spread > until || found.push({ ...place, at: at + spread, line }) === perLine) break
    }
    return found
  })
  return all.sort((a, b) => a.at - b.at)
}
