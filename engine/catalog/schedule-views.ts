import { sql } from 'kysely'
import { comingPlaces, type LastOfLine, type Place } from '../../core/plan/cycle'
import { spreadOf } from '../../core/plan/due'
import type { EngineContext } from '../context'
import type { CatalogDb } from './connect'
import type { DueOutcome } from './plan-types'
import type { RunState } from './types'
import { allVessels, type Vessel } from './vessels'

/** What became of a time of a plan, or of several that were missed together. */
export interface DueRow {
  id: string
  line: string
  dueAt: Date
  lastDueAt: Date
  times: number
  outcome: DueOutcome
  why: string | null
  run: string | null
  state: RunState | null
  tries: number
}

/** How far a vessel's plan has come. */
export interface ScheduleState {
  /** By line: the place of its newest run that is over. */
  last: Record<string, LastOfLine>
  /** The newest decisions, newest first. */
  due: DueRow[]
}

/** What a plan makes next, in which line. */
export interface NextPlanned extends Place {
  at: Date
  line: string
  zone: string
}

const DECISIONS_SHOWN = 12

export async function scheduleState(engine: EngineContext, vessel: Vessel): Promise<ScheduleState> {
  const due = await engine.db
    .selectFrom('due')
    .leftJoin('run', 'run.id', 'due.run_id')
    .select(['due.id', 'due.name as line', 'due.due_at as dueAt', 'due.last_due_at as lastDueAt', 'due.times', 'due.outcome', 'due.why'])
    .select(['due.run_id as run', 'run.state', 'due.tries'])
    .where('due.vessel_id', '=', vessel.id)
    .orderBy('due.due_at', 'desc')
    .limit(DECISIONS_SHOWN)
    .execute()
  return { last: await lastOfLines(engine.db, vessel.id), due }
}

/** How the newest run of each line of a vessel's plan ended that is over. */
export async function lastOfLines(db: CatalogDb, vesselId: string): Promise<Record<string, LastOfLine>> {
  const { rows } = await sql<LastOfLine & { line: string }>`
    select distinct on (params->'plan'->>'line') params->'plan'->>'line' as line, (params->'plan'->>'place')::int as place,
      (params->'plan'->>'of')::int as "of", state in ('done', 'warned') as "isDone"
    from run where vessel_id = ${vesselId} and params->'plan' is not null and state not in ('waiting', 'running')
    order by params->'plan'->>'line', created_at desc, id`.execute(db)
  return Object.fromEntries(rows.map(({ line, ...last }) => [line, last]))
}

/** What is due next of all lines; null where nothing is, or while the vessel is paused. */
export async function nextPlanned(engine: EngineContext, vessel: Vessel): Promise<NextPlanned | null> {
  return (await comingRuns(engine, vessel, { perLine: 1, until: Infinity }))[0] ?? null
}

/** What a plan makes from now on, ascending; nothing while the vessel is paused, as long as that is known to last. */
export async function comingRuns(
  engine: EngineContext,
  vessel: Vessel,
  { perLine, until }: { perLine: number; until: number },
): Promise<NextPlanned[]> {
  const { schedule } = vessel.definition
  if (!schedule || vessel.pause) return []
  const last = await lastOfLines(engine.db, vessel.id)
  const now = engine.clock.now().getTime()
  const all = schedule.lines.flatMap((line) => {
    const spread = spreadOf(line, vessel.id)
    const found: NextPlanned[] = []
    for (const { at, what, place, of } of comingPlaces(schedule, line, last[line.id] ?? null, now - spread)) {
      if (at + spread > until) break
      if (found.push({ what, place, of, at: new Date(at + spread), line: line.name, zone: schedule.zone }) === perLine) break
    }
    return found
  })
  return all.sort((a, b) => a.at.getTime() - b.at.getTime())
}

const DAY_MS = 86_400_000
/** More marks than these are no marks any more. */
const SHOWN_PER_LINE = 48

/** What all plans make in the next day. */
export async function comingDay(engine: EngineContext): Promise<(NextPlanned & { slug: string })[]> {
  const until = engine.clock.now().getTime() + DAY_MS
  const vessels = await allVessels(engine)
  const all = await Promise.all(
    vessels.map(async (vessel) =>
      (await comingRuns(engine, vessel, { perLine: SHOWN_PER_LINE, until })).map((run) => ({ ...run, slug: vessel.slug })),
    ),
  )
  return all.flat()
}
