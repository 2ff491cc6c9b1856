import { randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { patiently, type CatalogDb } from '../catalog/connect'
import type { RunState, StepState } from '../catalog/types'
import { errorRecord, VesselError } from '../../core/errors'
import { Pace } from '../../core/time/pace'
import { storable, storableIn } from '../../core/storable'
import type { EngineContext } from '../context'
import { fullPlaces, limitedPlaces } from './at-once'
import { notify } from '../notify'
import type { Progress } from '../sources/source'

/** What has to be started again when a worker dies in between. */
export interface RestingWorkload {
  source: string
  path: string
  label: string
  start: Record<string, unknown>
  /** Claims that it uses and whose volume is half-filled: it may not be started with such a one. */
  half: string[]
}

/**
 * What has to be undone outside of the catalog: a database that was half-made, a workload that was put to rest, what was
 * made in a cluster for a time.
 */
export type Undo =
  | { kind: 'database'; what: { source: string; database: string; oid: number | null } }
  | { kind: 'rest'; what: RestingWorkload }
  | { kind: 'cluster'; what: { source: string } }

export interface StepPlan {
  kind: string
  member: string
  title: string
}

const HEARTBEAT_MS = 1000
/** A worker that was silent for so long, by the catalog's clock, is taken for dead. */
export const SILENT_MS = 15_000

/**
 * What a run reports while it goes on: steps, counters, messages, heartbeat. Figures are gathered and written
 * once a second, so progress costs the same however fast rows move.
 *
 * Whoever works at a run has a claim to it. Everything that is written for the run holds only for as long as the claim
 * does: a worker that slept, and whose run was ended by another one meanwhile, stops and changes nothing more.
 */
export class RunContext {
  readonly abort = new AbortController()
  private readonly claim = randomUUID()
  private undoable = 0
  private over = false
  private readonly steps: { state: StepState; counters: Record<string, number>; dirty: boolean }[] = []
  private readonly counters: Record<string, number> = {}
  private readonly pace = new Pace()
  /** When it was begun here, by the engine's clock; null where another worker did that. */
  private begunMs: number | null = null
  private timer: NodeJS.Timeout | undefined
  private writing: Promise<void> = Promise.resolve()
  private ending = false
  warnings = 0
  /** Whether something was left in a cluster for the point that this run makes. */
  keptAtSource = false

  constructor(
    readonly engine: EngineContext,
    readonly id: string,
    readonly vesselId: string,
  ) {}

  get signal(): AbortSignal {
    return this.abort.signal
  }

  /** The same run for work that another signal ends, too. */
  within(signal: AbortSignal): Progress {
    const both = AbortSignal.any([this.signal, signal])
    return {
      signal: both,
      plan: (step) => this.plan(step),
      step: (ordinal, work) => {
        both.throwIfAborted()
        return this.step(ordinal, work)
      },
      say: (level, text) => this.say(level, text),
      expect: (counter, by) => this.expect(counter, by),
    }
  }

  private get db(): CatalogDb {
    return this.engine.db
  }

  /** That the run is still ours, as a condition. */
  private get held() {
    return sql<boolean>`exists (select from run r where r.id = ${this.id} and r.claim = ${this.claim} and r.state = 'running')`
  }

  /**
   * Asks whether the run is still ours; within a transaction it stays so until that ends. To be asked before anything
   * that can't be taken back.
   *
   * @throws VesselError `claim_lost`
   */
  async confirm(db: CatalogDb = this.db): Promise<void> {
    const { rows } = await sql`select from run where id = ${this.id} and claim = ${this.claim} and state = 'running' for share`.execute(db)
    if (rows.length === 0) throw this.lose()
  }

  private lose(): unknown {
    if (!this.signal.aborted) this.abort.abort(claimLost())
    return this.signal.reason
  }

  /**
   * Claims the run. Two backups of one vessel never go at once: each would give the other's log away, so the later one
   * waits until the first is over. Nor do two runs that look after one store: what one reads the other may take away.
   */
  async begin(): Promise<'begun' | 'later' | 'not ours'> {
    const busy = sql<boolean>`exists (select from run other where other.state = 'running' and other.id <> run.id
      and (run.kind = 'backup' and other.kind = 'backup' and other.vessel_id = run.vessel_id
        or run.kind in ('prune', 'verify', 'reindex') and other.kind in ('prune', 'verify', 'reindex')
          and other.params->>'store' = run.params->>'store'))`
    const begun = await this.db.transaction().execute(async (tx) => {
      // In one order for all runs, so that no two wait for each other.
      await sql`select pg_advisory_xact_lock(key) from (select hashtextextended(what, 0) as key from (
        select 'begin ' || vessel_id as what from run where id = ${this.id}
        union all select 'begin in ' || (params->>'store') from run where id = ${this.id} and params ? 'store'
        union all select 'begin at most' where exists (${limitedPlaces(this.id)})) begun order by key) ordered`.execute(tx)
      const free = await tx
        .selectFrom('run')
        .select(['id', 'cancel_requested_at'])
        .where('id', '=', this.id)
        // An answer that was lost does not make it somebody else's.
        .where((eb) => eb.or([eb('state', '=', 'waiting'), eb('claim', '=', this.claim)]))
        .where((eb) => eb.not(busy))
        .where(sql<boolean>`not exists (${fullPlaces(this.id)})`)
        .forUpdate()
        .executeTakeFirst()
      if (!free) return null
      // It begins when what it waited for is over, not when it began to ask.
      const now = this.engine.clock.now()
      await tx
        .updateTable('run')
        .set({ state: 'running', claim: this.claim, started_at: now, heartbeat_at: sql`now()`, at: now })
        .where('id', '=', this.id)
        .execute()
      return { now, cancelledAt: free.cancel_requested_at }
    })
    if (!begun) return (await this.isWaiting()) ? 'later' : 'not ours'
    this.begunMs = begun.now.getTime()
    this.pace.add([0, 0, 0])
    this.heed(begun.cancelledAt)
    this.startBeating()
    await this.tell('running')
    return 'begun'
  }

  private async isWaiting(): Promise<boolean> {
    const row = await this.db.selectFrom('run').select('state').where('id', '=', this.id).executeTakeFirst()
    return row?.state === 'waiting'
  }

  /** Takes a run from a worker of whom nothing was heard since then; false when another one was faster, or it was heard again. */
  async takeOver(heartbeat: string | null): Promise<boolean> {
    const row = await this.db
      .updateTable('run')
      .set({ claim: this.claim, heartbeat_at: sql`now()` })
      .where('id', '=', this.id)
      .where('state', '=', 'running')
      .where(sql<boolean>`heartbeat_at::text is not distinct from ${heartbeat}`)
      .returning('counters')
      .executeTakeFirst()
    if (!row) return false
    Object.assign(this.counters, row.counters)
    this.startBeating()
    return true
  }

  private startBeating(): void {
    // Whoever begins once more, because no answer came, beats once.
    this.letGo()
    this.timer = setInterval(() => void this.beat(), HEARTBEAT_MS)
  }

  /** Nobody works at the run here any more. One that has not ended falls silent, and is ended by whoever finds it so. */
  letGo(): void {
    clearInterval(this.timer)
  }

  /** Adds a step that waits; returns its number. */
  async plan(step: StepPlan): Promise<number> {
    const ordinal = this.steps.length
    this.steps.push({ state: 'waiting', counters: {}, dirty: false })
    const { numAffectedRows: added } = await sql`
      insert into run_step (run_id, ordinal, kind, member, title, state, counters)
      select ${this.id}::uuid, ${ordinal}::int, ${step.kind}, ${step.member}, ${step.title}, 'waiting', '{}'::jsonb where ${this.held}`.execute(
      this.db,
    )
    if (!added) throw this.lose()
    return ordinal
  }

  /** Does a step that was planned; what it throws is recorded with it. */
  async step<T>(ordinal: number, work: (count: (counter: string, by: number) => void) => Promise<T>): Promise<T> {
    this.signal.throwIfAborted()
    await this.mark(ordinal, 'running')
    try {
      this.signal.throwIfAborted()
      const result = await work((counter, by) => this.count(ordinal, counter, by))
      if (this.steps[ordinal]!.state === 'running') await this.mark(ordinal, 'done')
      return result
    } catch (error) {
      const record = errorRecord(error)
      await this.mark(ordinal, record.code === 'cancelled' ? 'cancelled' : 'failed', record.what)
      throw error
    }
  }

  async mark(ordinal: number, state: StepState, message?: string): Promise<void> {
    const now = this.engine.clock.now()
    this.steps[ordinal]!.state = state
    const over = state !== 'running' && state !== 'waiting'
    const row = await this.db
      .updateTable('run_step')
      .set({
        state,
        ...(state === 'running' ? { started_at: now } : {}),
        ...(over ? { finished_at: now } : {}),
        ...(message === undefined ? {} : { message: storable(message) }),
        counters: JSON.stringify(this.steps[ordinal]!.counters),
      })
      .where('run_id', '=', this.id)
      .where('ordinal', '=', ordinal)
      .where(this.held)
      .returning((eb) => eb.selectFrom('run').select('cancel_requested_at').whereRef('run.id', '=', 'run_step.run_id').as('cancelled_at'))
      .executeTakeFirst()
    if (!row) throw this.lose()
    // Between steps it is noticed at once; within one, with the next heartbeat.
    this.heed(row.cancelled_at)
    await this.tell('running')
  }

  private heed(cancelledAt: Date | null): void {
    if (cancelledAt && !this.signal.aborted) this.abort.abort(cancelled())
  }

  count(ordinal: number, counter: string, by: number): void {
    const step = this.steps[ordinal]!
    step.counters[counter] = (step.counters[counter] ?? 0) + by
    step.dirty = true
    this.counters[counter] = (this.counters[counter] ?? 0) + by
  }

  /** That the whole run has so much more of something to come. */
  expect(counter: string, by: number): void {
    this.counters[`${counter} expected`] = (this.counters[`${counter} expected`] ?? 0) + by
  }

  async say(level: 'info' | 'warning' | 'error', text: string): Promise<void> {
    if (level === 'warning') this.warnings++
    await sql`insert into run_message (run_id, at, level, text)
      select ${this.id}::uuid, ${this.engine.clock.now()}::timestamptz, ${level}, ${storable(text)} where ${this.held}`.execute(this.db)
  }

  /** Writes down what is about to be made outside and has to be undone if this run does not end as it should. */
  async willUndo(undo: Undo): Promise<number> {
    const ordinal = this.undoable++
    const { numAffectedRows: added } = await sql`insert into run_undo (run_id, ordinal, kind, what)
      select ${this.id}::uuid, ${ordinal}::int, ${undo.kind}, ${JSON.stringify(undo.what)}::jsonb where ${this.held}`.execute(this.db)
    if (!added) throw this.lose()
    return ordinal
  }

  /** What is to be undone became another thing. */
  async undoInstead(ordinal: number, what: Undo['what']): Promise<void> {
    const set = { what: JSON.stringify(what) }
    await this.db.updateTable('run_undo').set(set).where('run_id', '=', this.id).where('ordinal', '=', ordinal).where(this.held).execute()
  }

  /** Nothing of this has to be undone any more: it is finished, or it is undone. */
  async undone(ordinal: number): Promise<void> {
    await this.db.deleteFrom('run_undo').where('run_id', '=', this.id).where('ordinal', '=', ordinal).where(this.held).execute()
  }

  /** Takes a sample of how much was moved up to now; what is to be written of it, if anything. */
  private paceNow(isLast = false): { pace?: string } {
    if (this.begunMs === null) return {}
    const { bytes = 0, rows = 0, files = 0 } = this.counters
    const isNew = this.pace.add([this.engine.clock.now().getTime() - this.begunMs, bytes, rows + files], isLast)
    return isNew || isLast ? { pace: JSON.stringify(this.pace.samples) } : {}
  }

  private async beat(): Promise<void> {
    this.writing = this.write().catch((error: Error) => console.warn(`run ${this.id}: progress not written (${error.message})`))
    await this.writing
  }

  private async write(): Promise<void> {
    if (this.over) return
    for (const [ordinal, step] of this.steps.entries()) {
      if (!step.dirty) continue
      step.dirty = false
      await this.db
        .updateTable('run_step')
        .set({ counters: JSON.stringify(step.counters) })
        .where('run_id', '=', this.id)
        .where('ordinal', '=', ordinal)
        .where(this.held)
        .execute()
    }
    const row = await this.db
      .updateTable('run')
      .set({ heartbeat_at: sql`now()`, counters: JSON.stringify(this.counters), ...this.paceNow() })
      .where('id', '=', this.id)
      .where('claim', '=', this.claim)
      .where('state', '=', 'running')
      .returning('cancel_requested_at')
      .executeTakeFirst()
    // Whoever writes the end finds out whether the run was still ours.
    if (!row && this.ending) return
    if (!row) {
      this.letGo()
      throw this.lose()
    }
    this.heed(row.cancel_requested_at)
    await this.tell('running')
  }

  /** Ends the run, if it is still ours. While the catalog is away it is tried again, and the heartbeat goes on. */
  async end(state: RunState, details: { error?: unknown; outcome?: Record<string, unknown> } = {}): Promise<void> {
    await patiently(async () => {
      await this.writing
      this.ending = true
      await this.writeEnd(state, details)
    })
  }

  private async writeEnd(state: RunState, details: { error?: unknown; outcome?: Record<string, unknown> }): Promise<void> {
    const error = details.error === undefined ? null : JSON.stringify(storableIn(errorRecord(details.error)))
    const undone = state === 'done' || state === 'warned' ? 'skipped' : 'cancelled'
    const ended = await this.db.transaction().execute(async (tx) => {
      const row = await tx
        .updateTable('run')
        .set({
          state,
          finished_at: this.engine.clock.now(),
          heartbeat_at: sql`now()`,
          counters: JSON.stringify(this.counters),
          ...this.paceNow(true),
          error,
          outcome: details.outcome ? JSON.stringify(details.outcome) : null,
        })
        .where('id', '=', this.id)
        .where('claim', '=', this.claim)
        .where('state', '=', 'running')
        .executeTakeFirst()
      if (row.numUpdatedRows === 0n) return false
      const open = tx.updateTable('run_step').set({ state: undone }).where('run_id', '=', this.id)
      await open.where('state', 'in', ['waiting', 'running']).execute()
      return true
    })
    this.over = true
    this.letGo()
    if (ended) await this.tell(state)
    else await this.sayLost()
  }

  /** The record belongs to another worker by now; that this one stopped is told there all the same. */
  private async sayLost(): Promise<void> {
    const row = await this.db.selectFrom('run').select('claim').where('id', '=', this.id).executeTakeFirst()
    // The end was written, and the answer was lost.
    if (row?.claim === this.claim) return
    const { message, touched } = claimLost()
    await this.db
      .insertInto('run_message')
      .values({ run_id: this.id, at: this.engine.clock.now(), level: 'warning', text: `${message} ${touched}` })
      .execute()
    await this.tell('lost')
  }

  private tell(state: string): Promise<void> {
    return notify(this.db, { about: 'run', id: this.id, vessel: this.vesselId, state })
  }
}

export function cancelled(): VesselError {
  return new VesselError('cancelled', {
    what: 'The run was cancelled.',
    touched: 'What was at hand was rolled back or removed; what its record lists as done stays.',
    next: 'Start it again whenever you like.',
  })
}

/** What a worker is told that was taken for dead and is not. */
function claimLost(): VesselError {
  return new VesselError('claim_lost', {
    what: 'The worker that did this run answered again after it had been taken for dead, and the run had been ended.',
    touched: 'It stopped where it was and touched nothing more.',
    next: 'Start the run again.',
  })
}
