import { errorRecord, VesselError } from '../../core/errors'
import type { MemberFacts, TimeRange } from '../../core/quiesce/consistency'
import { actInWords, turnsOf, type HoldStep, type QuiesceSequence } from '../../core/quiesce/sequence'
import type { StepValues } from '../../core/quiesce/values'
import { namesOf, placeInWords } from '../../core/things/thing'
import { durationInWords } from '../../core/time/words'
import { isAway, patiently } from '../catalog/connect'
import { leasedBy, takeWorkload } from './lease'
import type { RunContext } from '../runs/context'
import type { ActJob, ActResult, Holder, HeldSession, PlacedAct } from '../sources/source'
import { Ledger, type Hold } from './ledger'
import { holderFor, markOf, release, type Remembered } from './release'

const WANTED_EVERY_MS = 500
const RELEASED_MEANWHILE = 'It was released while it still began.'

/** What a session may be silent beyond the budget before its server ends it. */
const SILENCE_MS = 4000

interface HeldStep {
  step: HoldStep
  ordinal: number
  releaseOrdinal: number
  hold: Hold | null
  session: HeldSession | undefined
  holders: Holder[]
  trouble: string | null
}

const sameTargets = (a: HoldStep['act'], b: HoldStep['act']) =>
  a.kind === 'exec' && b.kind === 'exec' && a.selector === b.selector && a.container === b.container && a.pods === b.pods

/** One quiesce sequence, from its first step to its last release; every step is a step of the run. */
export class HoldSequence {
  private readonly ledger: Ledger
  private readonly held: HeldStep[] = []
  /** What the steps returned, by their names. */
  values: Record<string, StepValues> = {}
  private readonly lapse = new AbortController()
  private timer: NodeJS.Timeout | undefined
  private begun = 0
  private reachedAt: number | null = null
  /** The turn that is at work; what it is about to hold must be held before it can be released. */
  private underway: Promise<unknown> = Promise.resolve()
  private releasing: Promise<void> | null = null
  private releasedAt: number | null = null
  /** What is still being written down about releases. */
  private readonly written: Promise<void>[] = []

  constructor(
    private readonly run: RunContext,
    private readonly quiesce: QuiesceSequence,
  ) {
    this.ledger = new Ledger(run.engine)
  }

  /** Writes all steps into the run, so that a person sees what will come. */
  async plan(): Promise<void> {
    for (const step of turnsOf(this.quiesce.steps).flat())
      this.held.push({
        step,
        ordinal: await this.run.plan({ kind: step.prepares ? 'prepare' : 'hold', member: this.label(step), title: step.name }),
        releaseOrdinal: -1,
        hold: null,
        session: undefined,
        holders: [],
        trouble: null,
      })
    for (const step of [...this.held].reverse())
      if (!step.step.prepares)
        step.releaseOrdinal = await this.run.plan({ kind: 'release', member: this.label(step.step), title: step.step.name })
  }

  private label = ({ member }: HoldStep) => placeInWords(member)

  /** When the first step began, by this process's clock; 0 when none has. */
  get begunAt(): number {
    return this.begun
  }

  /** Milliseconds of the budget that are left; null when nothing is held. */
  remainingMs(): number | null {
    if (this.begun === 0 || this.releasedAt !== null || this.lapse.signal.aborted) return null
    return Math.max(0, this.begun + this.quiesce.budgetMs - Date.now())
  }

  /**
   * Holds turn by turn.
   * @throws VesselError hold_failed when a step that is to stop the run did not come about; all is released then
   */
  async begin(): Promise<void> {
    if (this.held.length === 0) return
    this.begun = Date.now()
    this.timer = setTimeout(() => this.expireSafely(), this.quiesce.budgetMs)
    for (const turn of turnsOf(this.quiesce.steps)) {
      if (this.lapse.signal.aborted || (await this.isReleasedByOthers())) break
      this.underway = Promise.allSettled(this.held.filter(({ step }) => turn.includes(step)).map((held) => this.hold(held)))
      await this.underway
      this.run.signal.throwIfAborted()
      const failed = this.held.find(({ step, trouble }) => trouble !== null && step.onFailure === 'stop')
      if (failed && !this.lapse.signal.aborted) {
        await this.release()
        throw stopped(failed.step, failed.trouble!)
      }
    }
    const lapsed = this.lapse.signal.aborted || (await this.isReleasedByOthers())
    for (const step of this.held)
      if (step.hold === null) step.trouble ??= lapsed ? 'It was not reached before all was released.' : 'It did not begin.'
    if (lapsed) {
      await this.release()
      const strict = this.held.find(({ step, trouble }) => trouble !== null && step.onFailure === 'stop')
      if (strict) throw stopped(strict.step, strict.trouble!)
    } else if (this.held.every(({ trouble }) => trouble === null)) this.reachedAt = Date.now()
  }

  private async hold(held: HeldStep): Promise<void> {
    const { step } = held
    const signal = AbortSignal.any([this.run.signal, this.lapse.signal])
    try {
      await this.run.step(held.ordinal, async () => {
        const result = await this.perform(held, signal)
        if (result.failure !== null) throw failedStep(step, result.failure)
        this.values = { ...this.values, [step.name]: result.values }
      })
    } catch (error) {
      if (this.run.signal.aborted) throw error
      held.trouble = this.lapse.signal.aborted ? 'The budget of the hold was over before it was done.' : errorRecord(error).what
      if (!this.lapse.signal.aborted) await this.run.say('warning', `“${step.name}” on ${this.label(step)}: ${held.trouble}`)
    } finally {
      // It holds nothing: what it had open is closed, and nobody waits for more of it.
      if (step.prepares && held.hold) await release(this.run.engine, held.hold, 'run', this.rememberedOf(held))
    }
  }

  private async perform(held: HeldStep, signal: AbortSignal): Promise<ActResult> {
    const { step } = held
    const [source, place] = namesOf(step.member) as [string, string]
    if (step.act.kind === 'scale') await takeWorkload(this.run.engine.db, leasedBy(source, place, step.act), this.run.id)
    const holder = await holderFor(this.run.engine, step.member, step.act)
    const act = await holder.place(place, step.act, signal)
    const placed = { act, release: this.placedRelease(step, act) }
    // Whoever releases it must be known when the catalog is away, too.
    held.holders = [holder, placed.release ? await holderFor(this.run.engine, step.member, placed.release.act) : holder]
    const end = this.begun + this.quiesce.budgetMs
    const run = { id: this.run.id, vesselId: this.run.vesselId }
    held.hold = await this.ledger.begin(run, step, this.held.indexOf(held), placed, this.quiesce.budgetMs, end, this.values)
    const unwanted = new AbortController()
    const stopLooking = this.whileWanted(held.hold, unwanted)
    const both = AbortSignal.any([signal, unwanted.signal])
    const job: ActJob = {
      place,
      placed: act,
      values: this.values,
      limitMs: step.limitMs,
      holdMs: Math.max(0, end - Date.now()) + SILENCE_MS,
      mark: markOf(held.hold.id),
      signal: both,
    }
    const result = await holder
      .perform(job)
      .catch((error: unknown): ActResult => {
        if (this.run.signal.aborted) throw error
        const why = unwanted.signal.aborted
          ? RELEASED_MEANWHILE
          : this.lapse.signal.aborted
            ? 'The budget of the hold was over.'
            : errorRecord(error).what
        return { output: '', values: {}, failure: why }
      })
      .finally(stopLooking)
    held.session = result.session
    const isHeld = await this.ledger.held(held.hold, result, { ...this.values, [step.name]: result.values }).catch((error: unknown) => {
      // That it is held can't be written down: it is released by what is remembered.
      if (isAway(error)) return true
      throw error
    })
    if (isHeld) return result
    // It was released before it was held, which released nothing.
    await release(this.run.engine, held.hold, 'run', { ...this.rememberedOf(held), again: true })
    return { ...result, failure: RELEASED_MEANWHILE }
  }

  /** Stops what is beginning as soon as somebody releases it. */
  private whileWanted(hold: Hold, unwanted: AbortController): () => void {
    const timer = setInterval(() => {
      void this.ledger.isWanted(hold).then(
        (wanted) => wanted || unwanted.abort(new Error(RELEASED_MEANWHILE)),
        () => undefined,
      )
    }, WANTED_EVERY_MS)
    return () => clearInterval(timer)
  }

  private placedRelease(step: HoldStep, placed: PlacedAct): PlacedAct | null {
    if (step.act.kind === 'scale') return { act: { ...step.act, replicas: placed.before ?? step.act.replicas } }
    if (step.release === null) return null
    // It is released where it was held, wherever that was.
    return sameTargets(step.act, step.release) ? { act: step.release, pods: placed.pods } : { act: step.release }
  }

  private async isReleasedByOthers(): Promise<boolean> {
    return (await this.ledger.ofRun(this.run.id)).some(({ released_by: by }) => by !== null && by !== 'run')
  }

  /** Lets go of everything before its time. */
  async abandon(): Promise<void> {
    this.lapse.abort(new Error('the hold was given up'))
    await this.release()
  }

  private expireSafely(): void {
    this.expire().catch((error: Error) => console.error(`run ${this.run.id}: ${error.message}`))
  }

  private async expire(): Promise<void> {
    if (this.releasing) return
    this.lapse.abort(new Error('the budget of the hold is over'))
    const words = durationInWords(this.quiesce.budgetMs)
    await this.release()
    await this.run.say('warning', `The budget of ${words} for holding was over, so everything was released.`)
  }

  /** Releases everything, the last first. What can't be released is on record and tried again by the watchdogs. */
  release(): Promise<void> {
    this.releasing ??= this.releaseAll()
    return this.releasing
  }

  private async releaseAll(): Promise<void> {
    clearTimeout(this.timer)
    await this.underway
    if (this.held.some(({ hold, step }) => hold && !step.prepares)) this.releasedAt ??= Date.now()
    for (const turn of turnsOf(this.quiesce.steps).reverse())
      await Promise.all(
        this.held.filter(({ step, hold }) => hold && !step.prepares && turn.includes(step)).map((held) => this.releaseOne(held)),
      )
    await Promise.all(this.written)
  }

  /** Nothing that has to be written down comes before the release, and nothing that can't be stops the others. */
  private async releaseOne(step: HeldStep): Promise<void> {
    const warned = (error: Error) => console.error(`run ${this.run.id}: ${error.message}`)
    const marked = patiently(() => this.run.mark(step.releaseOrdinal, 'running')).catch(warned)
    const done = await release(this.run.engine, step.hold!, 'run', this.rememberedOf(step))
    this.written.push(marked.then(() => patiently(() => this.sayReleased(step, done))).catch(warned))
  }

  private rememberedOf({ hold, session, holders: [of, release] }: HeldStep): Remembered {
    const { act } = hold!.act
    return { hold: { ...hold!, known: { ...this.values } }, session, holderFor: async (asked) => (asked === act ? of! : release!) }
  }

  private async sayReleased({ step, hold, releaseOrdinal }: HeldStep, done: boolean): Promise<void> {
    const line = (await this.ledger.ofRun(this.run.id)).find(({ id }) => id === hold!.id)!
    if (done || line.state === 'released') {
      const who = line.released_by === 'watchdog' ? 'a watchdog' : 'a person'
      const by = line.released_by === null || line.released_by === 'run' ? undefined : `Released by ${who} before.`
      await this.run.mark(releaseOrdinal, 'done', by)
      return
    }
    this.run.warnings++
    await this.run.mark(releaseOrdinal, 'failed', `${actInWords(step.release ?? step.act)}: ${line.trouble ?? 'somebody else is at it.'}`)
  }

  /** The stretch in which everything was held; null when that never was. */
  async stretch(): Promise<TimeRange | null> {
    if (this.reachedAt === null) return null
    const others = await this.ledger.letGoByOthers(this.run.id)
    return { from: this.reachedAt, to: Math.min(this.releasedAt ?? Date.now(), others ?? Infinity) }
  }

  /** Steps that hold a member with what failed of them; of what only prepares, what failed. */
  stepsOf(member: string): MemberFacts['steps'] {
    return this.held
      .filter(({ step, trouble }) => step.member === member && (!step.prepares || trouble !== null))
      .map(({ step: { name, act }, trouble }) => ({ name, stops: act.kind === 'scale' && act.replicas === 0, trouble }))
  }
}

const failedStep = ({ name }: HoldStep, why: string) =>
  new VesselError('step_failed', {
    what: why,
    touched: `What “${name}” may have held is released.`,
    next: 'Look at its output, and rehearse.',
  })

const stopped = ({ name, member }: HoldStep, why: string) =>
  new VesselError('hold_failed', {
    what: `“${name}” on ${placeInWords(member)} did not hold, and the definition says to stop then. ${why}`,
    touched: 'Everything that was held is released. No point was made; earlier points are untouched.',
    next: 'Mend the step and rehearse, or let the definition go on as crash-consistent.',
  })
