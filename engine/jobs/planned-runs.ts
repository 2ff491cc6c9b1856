import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import type { DueRun, LineState, NotRun } from '../../core/plan/decide'
import type { BackupKind, PlanLine } from '../../core/plan/schedule'
import { durationInWords } from '../../core/time/words'
import { insertRun, type NewRun } from '../catalog/runs'
import type { CatalogDb } from '../catalog/connect'
import type { PlannedAs } from '../catalog/plan-types'
import type { Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'

// What the catalog keeps of plans: up to when each line was decided, and what became of every time.

/** The first full of a plan belongs to no line. */
export const FIRST_FULL = ''

export const BY_THE_PLAN = 'the plan'

type Queue = (tx: CatalogDb, id: string, kind: NewRun['kind']) => Promise<void>

/** The time by the catalog's clock, as this installation tells the time. */
export async function catalogNow({ db, clock }: Pick<EngineContext, 'db' | 'clock'>): Promise<Date> {
  const { rows } = await sql<{ now: Date }>`select clock_timestamp() as now`.execute(db)
  return clock.ofSource(rows[0]!.now)
}

/** How many runs of each line of a vessel's plan wait, and go on. */
export async function activeOfLines(tx: CatalogDb, vesselId: string): Promise<Record<string, Pick<LineState, 'waiting' | 'running'>>> {
  const { rows } = await sql<{ line: string; waiting: number; running: number }>`
    select params->'plan'->>'line' as line, count(*) filter (where state = 'waiting')::int as waiting,
      count(*) filter (where state = 'running')::int as running
    from run where vessel_id = ${vesselId} and state in ('waiting', 'running') and params->'plan' is not null group by 1`.execute(tx)
  return Object.fromEntries(rows.map(({ line, ...active }) => [line, active]))
}

/** Up to when a line was decided. Times that were put otherwise meanwhile count from when that was saved. */
export async function decidedUntil(tx: CatalogDb, vesselId: string, line: string, shape: string, savedAt: Date): Promise<Date> {
  const row = await tx
    .selectFrom('plan_line')
    .select(['decided_until', 'shape'])
    .where('vessel_id', '=', vesselId)
    .where('line', '=', line)
    .executeTakeFirst()
  if (row?.shape === shape) return row.decided_until
  await setDecided(tx, vesselId, line, shape, savedAt)
  return savedAt
}

export async function setDecided(tx: CatalogDb, vesselId: string, line: string, shape: string, until: Date): Promise<void> {
  await tx
    .insertInto('plan_line')
    .values({ vessel_id: vesselId, line, shape, decided_until: until })
    .onConflict((conflict) => conflict.columns(['vessel_id', 'line']).doUpdateSet({ shape, decided_until: until }))
    .execute()
}

/** A line that is in no plan any more was not due; should it come back, it counts from then. */
export async function forgetLines(db: CatalogDb, vessels: Vessel[]): Promise<void> {
  const lines = vessels.flatMap(({ id, definition }) => (definition.schedule?.lines ?? []).map((line) => `${id} ${line.id}`))
  await sql`delete from plan_line where not (vessel_id || ' ' || line = any(${lines}::text[]))`.execute(db)
}

/** Writes down times for which nothing is made. */
export async function recordNot(tx: CatalogDb, vessel: Vessel, line: PlanLine, not: NotRun, now: Date): Promise<void> {
  await tx
    .insertInto('due')
    .values({
      id: randomUUID(),
      vessel_id: vessel.id,
      line: line.id,
      name: line.name,
      due_at: new Date(not.due),
      last_due_at: new Date(not.lastDue),
      times: not.times,
      outcome: not.outcome,
      why: not.why,
      settled: true,
      decided_at: now,
    })
    .onConflict((conflict) => conflict.columns(['vessel_id', 'line', 'due_at']).doNothing())
    .execute()
}

/** A run for a time of a plan. */
export interface Planned {
  line: Pick<PlanLine, 'id' | 'name'>
  due: Pick<DueRun, 'due' | 'place' | 'of' | 'lateMs' | 'closesAt'>
  what: BackupKind
  /** Why something else is made than the plan says, in a sentence; empty where it is not. */
  instead: string
}

/**
 * Begins a run for a time, within the transaction that writes down that it was decided.
 *
 * @returns the run, or null where that time has its decision already
 */
export async function beginPlanned(tx: CatalogDb, vessel: Vessel, planned: Planned, now: Date, queue: Queue): Promise<string | null> {
  const { line, due, what, instead } = planned
  const dueAt = new Date(due.due)
  const late = due.lateMs > 0 ? `${durationInWords(due.lateMs)} late: no worker decided it at its time.` : ''
  const id = randomUUID()
  const added = await tx
    .insertInto('due')
    .values({
      id,
      vessel_id: vessel.id,
      line: line.id,
      name: line.name,
      due_at: dueAt,
      last_due_at: dueAt,
      times: 1,
      outcome: 'run',
      why: late ? `It began ${late}` : null,
      closes_at: due.closesAt === null ? null : new Date(due.closesAt),
      settled: false,
      decided_at: now,
    })
    .onConflict((conflict) => conflict.columns(['vessel_id', 'line', 'due_at']).doNothing())
    .executeTakeFirst()
  if (added.numInsertedOrUpdatedRows === 0n) return null
  const plan: PlannedAs = { line: line.id, name: line.name, dueAt: dueAt.toISOString(), place: due.place, of: due.of }
  const run = await beginRun(tx, vessel, { what, plan }, [instead, late].filter(Boolean).join(' '), now, queue)
  await tx.updateTable('due').set({ run_id: run }).where('id', '=', id).execute()
  return run
}

export async function beginRun(
  tx: CatalogDb,
  vessel: Vessel,
  params: Record<string, unknown>,
  comment: string,
  now: Date,
  queue: Queue,
): Promise<string> {
  const id = await insertRun(tx, { kind: 'backup', vessel, startedBy: BY_THE_PLAN, comment, params }, now)
  await queue(tx, id, 'backup')
  return id
}
