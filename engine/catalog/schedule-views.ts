import { sql } from 'kysely'
import { plannedRuns, type LastOfLine, type Place } from '../../core/plan/cycle'
import { collisions, type Meeting } from '../../core/plan/collide'
import { takesFromSource } from '../../core/plan/paused'
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
  const planned = plannedRuns(schedule, last, vessel.id, now, { perLine, until })
  return planned.map(({ what, place, of, at, line }) => ({ what, place, of, at: new Date(at), line: line.name, zone: schedule.zone }))
}

const DAY_MS = 86_400_000
/** More marks than these are no marks any more. */
const SHOWN_PER_LINE = 48

/** A run of the next day, and whom it meets. */
export interface ComingRun extends NextPlanned {
  slug: string
  vessel: string
  /** Where it reads. */
  sources: string[]
  /** How long it is expected to take, as its last ones did; null before the first. */
  forMs: number | null
  /** Other vessels that are expected to be read at the same source then. */
  meets: Meeting[]
}

/** What all plans make in the next days. */
export async function comingDays(engine: EngineContext, days = 1): Promise<ComingRun[]> {
  const until = engine.clock.now().getTime() + days * DAY_MS
  const vessels = await allVessels(engine)
  const [expected, sources] = await Promise.all([expectedMs(engine), engine.db.selectFrom('source').select('name').execute()])
  const all = await Promise.all(
    vessels.map(async (vessel) => {
      const takes = takesFromSource(vessel.definition)
      const from = sources.map(({ name }) => name).filter(takes)
      const runs = await comingRuns(engine, vessel, { perLine: SHOWN_PER_LINE * days, until })
      return runs.map((run) => ({ run, vessel, from, forMs: expected.get(`${vessel.id} ${run.what}`) ?? null }))
    }),
  )
  const runs = all.flat()
  const met = collisions(
    runs.map(({ run, vessel, from, forMs }) => ({ at: run.at.getTime(), forMs: forMs ?? 0, vessel: vessel.name, sources: from })),
  )
  return runs.map(({ run, vessel, from, forMs }, i) => ({
    ...run,
    slug: vessel.slug,
    vessel: vessel.name,
    sources: from,
    forMs,
    meets: met[i]!,
  }))
}

const LATELY_MS = 60 * DAY_MS
const RUNS_LOOKED_AT = 5

/** By vessel and kind of backup: how long the last ones took, in the middle. */
async function expectedMs(engine: EngineContext): Promise<Map<string, number>> {
  const since = new Date(engine.clock.now().getTime() - LATELY_MS)
  const { rows } = await sql<{ vessel: string; what: string; ms: number }>`
    select vessel, what, percentile_cont(0.5) within group (order by ms) as ms from (
      select vessel_id as vessel, coalesce(params->>'what', 'full') as what, extract(epoch from finished_at - started_at)::float8 * 1000 as ms,
        row_number() over (partition by vessel_id, coalesce(params->>'what', 'full') order by at desc) as nth
      from run where kind = 'backup' and state in ('done', 'warned') and at > ${since}) lately
    where nth <= ${RUNS_LOOKED_AT} group by 1, 2`.execute(engine.db)
  return new Map(rows.map(({ vessel, what, ms }) => [`${vessel} ${what}`, ms]))
}
