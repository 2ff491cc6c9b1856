import { sql } from 'kysely'
import { namesOf } from '../../core/things/thing'
import type { ChangeTally } from '../../core/changes/log-text'
import type { EngineContext } from '../context'

/** Rows that were inserted, updated and deleted in a stretch of time, and the changes of structure in it. */
export interface ChangeTrace {
  from: number
  /** Milliseconds that one bucket is long. */
  step: number
  /** Bucket, table, and what was done to it. */
  buckets: [bucket: number, table: string, ...tally: ChangeTally][]
  structure: {
    member: string
    source: string
    at: Date
    position: string
    tag: string
    statement: string | null
    objects: { kind: string; name: string }[]
  }[]
}

/** A transaction that changed much. */
export interface HeavyView {
  member: string
  source: string
  xid: string
  position: string
  end: string
  at: Date
  micros: number
  application: string | null
  role: string | null
  rows: number
  tables: { name: string; tally: ChangeTally }[]
}

const BUCKETS = 240
const STEPS = [1, 5, 15, 60, 300, 900, 3600, 10_800, 43_200, 86_400]
const FLAGS = 200

/** The change trace over a stretch of time, in buckets of whole seconds. */
export async function traceOf(engine: EngineContext, vesselId: string, from: Date, to: Date): Promise<ChangeTrace> {
  const seconds = (to.getTime() - from.getTime()) / 1000
  const step = STEPS.find((width) => seconds / width <= BUCKETS) ?? Math.ceil(seconds / BUCKETS)
  const begin = Math.floor(from.getTime() / 1000 / step) * step
  const { rows } = await sql<{ bucket: number; name: string; inserted: string; updated: string; deleted: string; emptied: string }>`
    select floor((extract(epoch from second) - ${begin}) / ${step})::int as bucket, name, sum(inserted) as inserted, sum(updated) as updated,
      sum(deleted) as deleted, sum(emptied) as emptied
    from log_trace where vessel_id = ${vesselId} and second >= ${new Date(begin * 1000)} and second <= ${to}
    group by 1, 2 order by 1, 2`.execute(engine.db)
  const flags = await engine.db
    .selectFrom('log_structure')
    .selectAll()
    .where('vessel_id', '=', vesselId)
    .where('at', '>=', from)
    .where('at', '<=', to)
    .orderBy('at', 'desc')
    .limit(FLAGS)
    .execute()
  return {
    from: begin * 1000,
    step: step * 1000,
    buckets: rows.map((row) => [row.bucket, row.name, Number(row.inserted), Number(row.updated), Number(row.deleted), Number(row.emptied)]),
    structure: flags.reverse().map(({ member, at, end_position: position, tag, statement, objects }) => ({
      member,
      source: namesOf(member)[0]!,
      at,
      position,
      tag,
      statement,
      objects,
    })),
  }
}

/** Large and unusual transactions of a stretch of time, by weight: a deletion weighs more than what is only added. */
export async function heavyOf(engine: EngineContext, vesselId: string, from: Date, to: Date, limit: number): Promise<HeavyView[]> {
  const { rows } = await sql<{
    member: string
    xid: string
    position: string
    end_position: string
    at: Date
    micros: string
    application: string | null
    role: string | null
    rows: string
    tables: HeavyView['tables']
  }>`
    select member, xid, position, end_position, at, micros, application, role, rows, tables,
      (select sum((t->'tally'->>0)::bigint + 2 * (t->'tally'->>1)::bigint + 6 * (t->'tally'->>2)::bigint + 5000 * (t->'tally'->>3)::bigint)
        from jsonb_array_elements(tables) t) as weight
    from log_heavy where vessel_id = ${vesselId} and at >= ${from} and at <= ${to} order by weight desc, at desc limit ${limit}`.execute(
    engine.db,
  )
  return rows.map((row) => ({
    member: row.member,
    source: namesOf(row.member)[0]!,
    xid: row.xid,
    position: row.position,
    end: row.end_position,
    at: row.at,
    micros: Number(row.micros),
    application: row.application,
    role: row.role,
    rows: Number(row.rows),
    tables: row.tables,
  }))
}
