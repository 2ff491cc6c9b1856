import { sql } from 'kysely'
import { decide, type DueRun, type LineState } from '../../core/plan/decide'
import { nextDue, spreadOf } from '../../core/plan/due'
import type { BackupKind, PlanLine, Schedule } from '../../core/plan/schedule'
import type { CatalogDb } from '../catalog/connect'
import { endPauses, quietOf } from '../catalog/pauses'
import { cancelWaiting, requestCancel } from '../catalog/runs'
import { lastOfLines } from '../catalog/schedule-views'
import type { RunKind } from '../catalog/types'
import { allVessels, vesselById, type Vessel } from '../catalog/vessels'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import { waysOfBackup } from '../runs/ways'
import type { Duties } from './duties'
import {
  activeOfLines,
  beginPlanned,
  beginRun,
  catalogNow,
  decidedUntil,
  forgetLines,
  FIRST_FULL,
  recordNot,
  setDecided,
  type Planned,
} from './planned-runs'
import { isPassing, TRY_AGAIN_MS } from './tries'

const LOOK_EVERY_MS = 2000
/** One of all workers decides; that only saves work, a time is decided once whoever does it. */
const DECIDES_FOR_MS = 5000
/** However far off the next time is, it is looked again after so long. */
const QUIET_AT_MOST_MS = 5 * 60_000
/** How long a run without a window may be tried again. */
const TRIED_FOR_MS = 3_600_000

export interface SchedulerContext extends EngineContext {
  duties: Duties
  /** Puts a run into the queue, in the transaction that records it. */
  enqueue(tx: CatalogDb, id: string, kind: RunKind): Promise<void>
}

/**
 * Carries plans out: every time that is due has one run, or one record that says why it has none. Times are the
 * catalog's; what is decided is written in one transaction with the run that comes of it, under a lock of the vessel,
 * so that no number of workers, none that dies between, and no clock that jumps makes two of them or none.
 */
export class Scheduler {
  private timer: NodeJS.Timeout | undefined
  private looking: Promise<void> | null = null
  /** Vessels of which nothing is due for a while, as they were saved then. */
  private readonly quiet = new Map<string, { of: string; until: number }>()

  constructor(private readonly engine: SchedulerContext) {}

  start(): void {
    this.timer = setInterval(() => void this.look(), LOOK_EVERY_MS)
    void this.look()
  }

  async close(): Promise<void> {
    clearInterval(this.timer)
    await this.looking
  }

  look(): Promise<void> {
    this.looking ??= this.lookOnce()
      .catch((error: Error) => console.warn(`plans: ${error.message}`))
      .finally(() => (this.looking = null))
    return this.looking
  }

  private async lookOnce(): Promise<void> {
    if (!(await this.engine.duties.take('plans', DECIDES_FOR_MS))) return
    const now = await catalogNow(this.engine)
    await endPauses(this.engine, now)
    const vessels = await allVessels(this.engine)
    await forgetLines(this.engine.db, vessels)
    for (const vessel of vessels) {
      const { schedule } = vessel.definition
      if (schedule && !this.isQuiet(vessel, now))
        await this.decideVessel(vessel, schedule).catch((error: Error) => console.warn(`plan of ${vessel.name}: ${error.message}`))
    }
    await this.followUp()
    await this.closeWindows(vessels, now)
  }

  /** Whether nothing can be due of a vessel yet: many are asked for often, and few of them are due. */
  private isQuiet(vessel: Vessel, now: Date): boolean {
    const quiet = this.quiet.get(vessel.id)
    return quiet !== undefined && quiet.of === savedAs(vessel) && now.getTime() < quiet.until
  }

  /** @param mayBegin when the time ends in which nothing may begin; before now where there is none */
  private rest(vessel: Vessel, schedule: Schedule, now: Date, mayBegin: number): void {
    const next = schedule.lines.map((line) => {
      const spread = spreadOf(line, vessel.id)
      return (nextDue(schedule, line, now.getTime() - spread) ?? Infinity) + spread
    })
    this.quiet.set(vessel.id, {
      of: savedAs(vessel),
      until: Math.min(...next, ...(mayBegin > now.getTime() ? [mayBegin] : []), now.getTime() + QUIET_AT_MOST_MS),
    })
  }

  private async decideVessel(vessel: Vessel, schedule: Schedule): Promise<void> {
    const begun: string[] = []
    let isDecided = false
    let mayBegin = 0
    const now = await this.engine.db.transaction().execute(async (tx) => {
      await sql`select pg_advisory_xact_lock(hashtextextended(${`plan ${vessel.id}`}, 0))`.execute(tx)
      const saved = await tx
        .selectFrom('vessel_version')
        .select('created_at')
        .where('vessel_id', '=', vessel.id)
        .where('version', '=', vessel.version)
        .executeTakeFirstOrThrow()
      const now = await this.nowIn(tx)
      const first = await this.firstFull(tx, vessel, saved.created_at, now)
      if (first) begun.push(first)
      const [last, active] = [await lastOfLines(tx, vessel.id), await activeOfLines(tx, vessel.id)]
      const quiet = await quietOf(tx, vessel.definition)
      mayBegin = quiet(now.getTime())?.until ?? 0
      for (const line of schedule.lines) {
        const runs = { waiting: 0, running: 0, ...active[line.id], last: last[line.id] ?? null }
        const decided = await this.decideLine(tx, vessel, line, { savedAt: saved.created_at, now, runs, quiet })
        isDecided ||= decided !== null
        if (decided?.run) begun.push(decided.run)
      }
      return now
    })
    this.rest(vessel, schedule, now, mayBegin)
    for (const id of begun) await notify(this.engine.db, { about: 'run', id, vessel: vessel.id, state: 'waiting' })
    if (isDecided) await notify(this.engine.db, { about: 'vessel', id: vessel.id })
  }

  /** A plan begins with a full, soon after it was saved. */
  private async firstFull(tx: CatalogDb, vessel: Vessel, savedAt: Date, now: Date): Promise<string | null> {
    const { rows } = await sql`select from artifact where vessel_id = ${vessel.id} and kind in ('full', 'synthetic')
      union all select from due where vessel_id = ${vessel.id} and line = ${FIRST_FULL}
      union all select from run where vessel_id = ${vessel.id} and kind = 'backup' and state in ('waiting', 'running') limit 1`.execute(tx)
    if (rows.length > 0 || vessel.pause) return null
    const due = { due: savedAt.getTime(), place: 1, of: 1, lateMs: 0, closesAt: null }
    const planned: Planned = { line: { id: FIRST_FULL, name: 'first full' }, due, what: 'full', instead: 'The first full of the plan.' }
    return beginPlanned(tx, vessel, planned, now, this.queue)
  }

  /** @returns the run that was begun, if any; null where nothing was due */
  private async decideLine(
    tx: CatalogDb,
    vessel: Vessel,
    line: PlanLine,
    {
      savedAt,
      now,
      runs,
      quiet,
    }: { savedAt: Date; now: Date; runs: Pick<LineState, 'waiting' | 'running' | 'last'>; quiet: LineState['quiet'] },
  ): Promise<{ run: string | null } | null> {
    const schedule = vessel.definition.schedule!
    const shape = JSON.stringify([schedule.zone, schedule.from, line.times])
    const until = await decidedUntil(tx, vessel.id, line.id, shape, savedAt)
    const state = { decidedUntil: until.getTime(), isPaused: vessel.pause !== null, quiet, ...runs }
    const decided = decide(schedule, line, vessel.id, state, now.getTime())
    if (decided.decidedUntil === state.decidedUntil) return null
    for (const not of decided.not) await recordNot(tx, vessel, line, not, now)
    await setDecided(tx, vessel.id, line.id, shape, new Date(decided.decidedUntil))
    if (!decided.run) return { run: null }
    const { what, instead } = await this.whatIsMade(vessel, decided.run)
    return { run: await beginPlanned(tx, vessel, { line, due: decided.run, what, instead }, now, this.queue) }
  }

  /** What can't be built on anything becomes a full, and says so. */
  private async whatIsMade(vessel: Vessel, { what }: DueRun): Promise<{ what: BackupKind; instead: string }> {
    if (what === 'full') return { what, instead: '' }
    const way = (await waysOfBackup(this.engine, vessel)).find((known) => known.way === what)!
    return way.obstacle === null ? { what, instead: '' } : { what: 'full', instead: `A full instead of the ${what}: ${way.obstacle}` }
  }

  private nowIn(tx: CatalogDb): Promise<Date> {
    return catalogNow({ db: tx, clock: this.engine.clock })
  }

  private readonly queue = (tx: CatalogDb, id: string, kind: RunKind) => this.engine.enqueue(tx, id, kind)

  /** What failed for a reason that may pass is tried again within its window. */
  private async followUp(): Promise<void> {
    const open = await this.engine.db
      .selectFrom('due')
      .innerJoin('run', 'run.id', 'due.run_id')
      .select(['due.id', 'run.state'])
      .where('due.settled', '=', false)
      .where('run.state', 'not in', ['waiting', 'running'])
      .execute()
    for (const { id, state } of open) {
      if (state === 'failed') await this.tryAgain(id)
      else await this.engine.db.updateTable('due').set({ settled: true }).where('id', '=', id).execute()
    }
  }

  private async tryAgain(dueId: string): Promise<void> {
    const begun = await this.engine.db.transaction().execute(async (tx) => {
      const due = await tx
        .selectFrom('due')
        .innerJoin('run', 'run.id', 'due.run_id')
        .select(['due.id', 'due.vessel_id', 'due.line', 'due.tries', 'due.next_try_at', 'due.closes_at', 'due.decided_at'])
        .select(['run.error', 'run.params', 'run.state'])
        .where('due.id', '=', dueId)
        .where('due.settled', '=', false)
        .forUpdate('due')
        .executeTakeFirst()
      if (due?.state !== 'failed') return null
      const now = await this.nowIn(tx)
      const vessel = await vesselById(this.engine, due.vessel_id)
      const delayMs = TRY_AGAIN_MS[due.tries]
      const until = due.closes_at ?? new Date(due.decided_at.getTime() + TRIED_FOR_MS)
      const nextTry = due.next_try_at ?? new Date(now.getTime() + (delayMs ?? 0))
      const update = tx.updateTable('due').where('id', '=', dueId)
      if (delayMs === undefined || !isPassing(due.error) || nextTry > until || vessel.pause || (await isOvertaken(tx, due))) {
        await update.set({ settled: true }).execute()
        return null
      }
      if (nextTry > now) {
        if (due.next_try_at === null) await update.set({ next_try_at: nextTry }).execute()
        return null
      }
      const comment = `Try ${due.tries + 2}: ${due.error?.what ?? 'the last one failed.'}`
      const run = await beginRun(tx, vessel, due.params, comment, now, this.queue)
      await update.set({ run_id: run, tries: due.tries + 1, next_try_at: null }).execute()
      return { run, vessel: vessel.id }
    })
    if (begun) await notify(this.engine.db, { about: 'run', id: begun.run, vessel: begun.vessel, state: 'waiting' })
  }

  /** What goes on when its window closes is stopped, where the plan says so. */
  private async closeWindows(vessels: Vessel[], now: Date): Promise<void> {
    const open = await this.engine.db
      .selectFrom('due')
      .innerJoin('run', 'run.id', 'due.run_id')
      .select(['due.id as due', 'due.line', 'run.id', 'run.vessel_id', 'run.state'])
      .where('due.settled', '=', false)
      .where('due.closes_at', '<=', now)
      .where('run.state', 'in', ['waiting', 'running'])
      .where('run.cancel_requested_at', 'is', null)
      .execute()
    for (const { due, line, id, vessel_id: vesselId, state } of open) {
      if (state === 'waiting') {
        await this.giveUp(due, id)
        continue
      }
      const lines = vessels.find((vessel) => vessel.id === vesselId)?.definition.schedule?.lines ?? []
      if (lines.find((planned) => planned.id === line)?.window?.close !== 'stop') continue
      const text = 'Its window has closed, and its plan says that it stops then.'
      await this.engine.db.insertInto('run_message').values({ run_id: id, at: now, level: 'warning', text }).execute()
      await requestCancel(this.engine, id).catch((error: Error) => console.warn(`run ${id}: ${error.message}`))
    }
  }

  /** What could not begin within its window does not begin after it. */
  private async giveUp(due: string, run: string): Promise<void> {
    const { waits_for: waits } = await this.engine.db.selectFrom('run').select('waits_for').where('id', '=', run).executeTakeFirstOrThrow()
    // It may have begun just now; then it goes on.
    if (!(await cancelWaiting(this.engine, run))) return
    const why = `It could not begin before its window closed${waits ? `: ${waits}` : '.'}`
    await this.engine.db.updateTable('due').set({ outcome: 'missed', why, settled: true }).where('id', '=', due).execute()
  }
}

/** What a decision rests upon, of a vessel itself. */
const savedAs = ({ version, pause }: Vessel): string => JSON.stringify([version, pause])

/** Whether something of the same line was decided after it. */
async function isOvertaken(tx: CatalogDb, due: { id: string; vessel_id: string; line: string; decided_at: Date }): Promise<boolean> {
  const later = await tx
    .selectFrom('due')
    .select('id')
    .where('vessel_id', '=', due.vessel_id)
    .where('line', '=', due.line)
    .where('decided_at', '>', due.decided_at)
    .limit(1)
    .executeTakeFirst()
  return later !== undefined
}
