import { sql } from 'kysely'
import { comingPlaces, type LastOfLine, type Place } from '../../core/plan/cycle'
import { spreadOf } from '../../core/plan/due'
import type { EngineContext } from '../context'
import type { DueOutcome } from './plan-types'
import type { RunState } from './types'
import type { Vessel } from './vessels'

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
  return { last: await lastOfLines(engine, vessel), due }
}

async function lastOfLines(engine: EngineContext, vessel: Vessel): Promise<Record<string, LastOfLine>> {
  const { rows } = await sql<LastOfLine & { line: string }>`
    select distinct on (params->'plan'->>'line') params->'plan'->>'line' as line, (params->'plan'->>'place')::int as place,
      (params->'plan'->>'of')::int as "of", state in ('done', 'warned') as "isDone"
    from run where vessel_id = ${vessel.id} and params->'plan' is not null and state not in ('waiting', 'running')
    order by params->'plan'->>'line', created_at desc, id`.execute(engine.db)
  return Object.fromEntries(rows.map(({ line, ...last }) => [line, last]))
}

/** What is due next of all lines; null where nothing is, or while the vessel is paused. */
export async function nextPlanned(engine: EngineContext, vessel: Vessel): Promise<NextPlanned | null> {
  const { schedule } = vessel.definition
  if (!schedule || vessel.paused) return null
  const last = await lastOfLines(engine, vessel)
  const now = engine.clock.now().getTime()
  let next: NextPlanned | null = null
  for (const line of schedule.lines) {
    const spread = spreadOf(line, vessel.id)
    const { value: coming } = comingPlaces(schedule, line, last[line.id] ?? null, now - spread).next()
    if (!coming || (next && coming.at + spread >= next.at.getTime())) continue
    const { what, place, of, at } = coming
    next = { what, place, of, at: new Date(at + spread), line: line.name, zone: schedule.zone }
  }
  return next
}
