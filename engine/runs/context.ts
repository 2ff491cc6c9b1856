import type { CatalogDb } from '../catalog/connect'
import type { RunState, StepState } from '../catalog/types'
import { errorRecord, VesselError } from '../../core/errors'
import type { EngineContext } from '../context'
import { notify } from '../notify'
import type { Progress } from '../sources/source'

export interface StepPlan {
  kind: string
  member: string
  title: string
}

const HEARTBEAT_MS = 1000
/** A worker that was silent for so long is taken for dead. */
export const SILENT_MS = 15_000

/**
 * What a run reports while it goes on: steps, counters, messages, heartbeat. Figures are gathered and written
 * once a second, so progress costs the same however fast rows move.
 */
export class RunContext {
  readonly abort = new AbortController()
  private readonly steps: { state: StepState; counters: Record<string, number>; dirty: boolean }[] = []
  private readonly counters: Record<string, number> = {}
  private timer: NodeJS.Timeout | undefined
  private writing: Promise<void> = Promise.resolve()
  warnings = 0
  /** Whether something was left in a cluster for the point that this run makes. */
  leftAtSource = false

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

  /** Claims the run; false when another worker has it or it is over. */
  async begin(): Promise<boolean> {
    const now = this.engine.clock.now()
    const row = await this.db
      .updateTable('run')
      .set({ state: 'running', started_at: now, heartbeat_at: new Date(), at: now })
      .where('id', '=', this.id)
      .where('state', '=', 'waiting')
      .returning(['id', 'cancel_requested_at'])
      .executeTakeFirst()
    if (!row) return false
    this.heed(row.cancel_requested_at)
    this.timer = setInterval(() => void this.beat(), HEARTBEAT_MS)
    await this.tell('running')
    return true
  }

  /** Adds a step that waits; returns its number. */
  async plan(step: StepPlan): Promise<number> {
    const ordinal = this.steps.length
    this.steps.push({ state: 'waiting', counters: {}, dirty: false })
    await this.db
      .insertInto('run_step')
      .values({ run_id: this.id, ordinal, ...step, state: 'waiting', counters: '{}' })
      .execute()
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
        ...(message === undefined ? {} : { message }),
        counters: JSON.stringify(this.steps[ordinal]!.counters),
      })
      .where('run_id', '=', this.id)
      .where('ordinal', '=', ordinal)
      .returning((eb) => eb.selectFrom('run').select('cancel_requested_at').whereRef('run.id', '=', 'run_step.run_id').as('cancelled_at'))
      .executeTakeFirst()
    // Between steps it is noticed at once; within one, with the next heartbeat.
    this.heed(row?.cancelled_at ?? null)
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
    await this.db.insertInto('run_message').values({ run_id: this.id, at: this.engine.clock.now(), level, text }).execute()
  }

  /** Writes down what has to be undone if this worker dies. */
  async remember(outcome: Record<string, unknown>): Promise<void> {
    await this.db
      .updateTable('run')
      .set({ outcome: JSON.stringify(outcome) })
      .where('id', '=', this.id)
      .execute()
  }

  private async beat(): Promise<void> {
    this.writing = this.write().catch((error: Error) => console.warn(`run ${this.id}: progress not written (${error.message})`))
    await this.writing
  }

  private async write(): Promise<void> {
    for (const [ordinal, step] of this.steps.entries()) {
      if (!step.dirty) continue
      step.dirty = false
      await this.db
        .updateTable('run_step')
        .set({ counters: JSON.stringify(step.counters) })
        .where('run_id', '=', this.id)
        .where('ordinal', '=', ordinal)
        .execute()
    }
    const row = await this.db
      .updateTable('run')
      .set({ heartbeat_at: new Date(), counters: JSON.stringify(this.counters) })
      .where('id', '=', this.id)
      .returning('cancel_requested_at')
      .executeTakeFirst()
    this.heed(row?.cancel_requested_at ?? null)
    await this.tell('running')
  }

  async end(state: RunState, details: { error?: unknown; outcome?: Record<string, unknown> } = {}): Promise<void> {
    clearInterval(this.timer)
    await this.writing
    const error = details.error === undefined ? null : JSON.stringify(errorRecord(details.error))
    await this.db
      .updateTable('run')
      .set({
        state,
        finished_at: this.engine.clock.now(),
        heartbeat_at: new Date(),
        counters: JSON.stringify(this.counters),
        error,
        outcome: details.outcome ? JSON.stringify(details.outcome) : null,
      })
      .where('id', '=', this.id)
      .execute()
    const undone = state === 'done' || state === 'warned' ? 'skipped' : 'cancelled'
    await this.db
      .updateTable('run_step')
      .set({ state: undone })
      .where('run_id', '=', this.id)
      .where('state', 'in', ['waiting', 'running'])
      .execute()
    await this.tell(state)
  }

  private tell(state: string): Promise<void> {
    return notify(this.db, { about: 'run', id: this.id, vessel: this.vesselId, state })
  }
}

export function cancelled(): VesselError {
  return new VesselError('cancelled', {
    what: 'The run was cancelled.',
    touched: 'What it had made so far was removed again.',
    next: 'Start it again whenever you like.',
  })
}
