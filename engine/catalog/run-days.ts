import { sql } from 'kysely'
import type { EngineContext } from '../context'
import type { RunKind } from './types'

/** Which runs are counted. */
export interface CountedRuns {
  /** Name of the zone whose calendar counts. */
  zone: string
  since: Date
  until: Date
  vessel?: string
  kinds?: RunKind[]
}

/** How the runs of one day ended, or that they go on. */
export interface RunDay {
  /** As in `2026-11-24`. */
  day: string
  done: number
  warned: number
  failed: number
  cancelled: number
  open: number
  /** What a plan had due, and nothing was run for. */
  missed: number
}

/** The same runs as in the list: what looks after a store is none of a vessel. */
const counted = ({ since, until, vessel, kinds }: CountedRuns) => sql`run.at >= ${since}::timestamptz and run.at < ${until}::timestamptz
  ${vessel ? sql`and vessel.slug = ${vessel} and not run.params ? 'store'` : sql``}
  ${kinds?.length ? sql`and run.kind = any(${kinds})` : sql``}`

const dayIn = (zone: string) => sql`to_char(run.at at time zone ${zone}, 'YYYY-MM-DD')`

/** Days without any run are not among them, unless one was due. */
export async function runDays(engine: EngineContext, of: CountedRuns): Promise<RunDay[]> {
  const { zone, since, until, vessel, kinds } = of
  const states = ['done', 'warned', 'failed', 'cancelled'].map(
    (state) => sql`(count(*) filter (where state = ${state}))::int as ${sql.ref(state)}`,
  )
  const { rows } = await sql<RunDay>`
    with told as (
      select ${dayIn(zone)} as day, run.state from run join vessel on vessel.id = run.vessel_id where ${counted(of)}
      union all select to_char(due.due_at at time zone ${zone}, 'YYYY-MM-DD'), due.outcome
      from due join vessel on vessel.id = due.vessel_id, generate_series(1, due.times)
      where due.outcome <> 'run' and due.due_at >= ${since}::timestamptz and due.due_at < ${until}::timestamptz
        ${vessel ? sql`and vessel.slug = ${vessel}` : sql``} and ${!kinds?.length || kinds.includes('backup')}::boolean)
    select day, ${sql.join(states)}, (count(*) filter (where state in ('waiting', 'running')))::int as open,
      (count(*) filter (where state in ('missed', 'left out')))::int as missed
    from told group by 1 order by 1`.execute(engine.db)
  return rows
}

/** What a run is at: a part of its time. */
export const PHASES = ['wait', 'hold', 'structure', 'rows', 'log', 'compute', 'write', 'check', 'record', 'other'] as const
export type Phase = (typeof PHASES)[number]

/** What kinds of steps belong to; all else is `other`. */
const PHASE_OF: Record<string, Phase> = {
  locks: 'hold',
  release: 'hold',
  snapshot: 'hold',
  structure: 'structure',
  table: 'rows',
  volume: 'rows',
  content: 'rows',
  'large-objects': 'rows',
  log: 'log',
  net: 'compute',
  group: 'write',
  undo: 'write',
  verify: 'check',
  audit: 'check',
  reindex: 'check',
  manifest: 'record',
}

/** What the runs of one day took and moved. Runs that were cancelled before they began are not counted. */
export interface RunFigures {
  day: string
  runs: number
  /** Seconds by phase; steps of one phase that went on side by side count once. */
  seconds: Partial<Record<Phase, number>>
  /** Bytes that were read, and that were new in a store. */
  read: number
  stored: number
}

export async function runFigures(engine: EngineContext, of: CountedRuns): Promise<RunFigures[]> {
  const { rows: days } = await sql<Omit<RunFigures, 'seconds'> & { wait: number }>`select ${dayIn(of.zone)} as day, count(*)::int as runs,
      sum(coalesce((run.counters->>'bytes')::float8, 0)) as read,
      sum(coalesce((run.outcome->>'stored')::float8, (run.counters->>'stored')::float8, 0)) as stored,
      sum(extract(epoch from run.started_at - run.created_at))::float8 as wait
    from run join vessel on vessel.id = run.vessel_id where run.started_at is not null and ${counted(of)} group by 1 order by 1`.execute(
    engine.db,
  )
  const phase = sql`case ${sql.join(
    Object.entries(PHASE_OF).map(([kind, phase]) => sql`when step.kind = ${kind} then ${phase}`),
    sql` `,
  )} else 'other' end`
  const { rows: phases } = await sql<{ day: string; phase: Phase; seconds: number }>`
    with spent as (
      select ${dayIn(of.zone)} as day, run.id, ${phase} as phase, range_agg(tstzrange(step.started_at, step.finished_at)) as spans
      from run join vessel on vessel.id = run.vessel_id join run_step step on step.run_id = run.id
      where step.started_at < step.finished_at and ${counted(of)} group by 1, 2, 3)
    select day, phase, sum(extract(epoch from upper(span) - lower(span)))::float8 as seconds
    from spent, unnest(spans) as span group by 1, 2`.execute(engine.db)
  return days.map(({ wait, ...day }) => ({
    ...day,
    seconds: Object.fromEntries([
      ['wait', wait],
      ...phases.filter((row) => row.day === day.day).map((row) => [row.phase, row.seconds]),
    ]) as RunFigures['seconds'],
  }))
}
