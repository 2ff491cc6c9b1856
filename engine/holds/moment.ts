import type { MemberFacts, TimeRange } from '../../core/quiesce/consistency'
import type { StepValues } from '../../core/quiesce/values'
import type { CaptureMoment } from '../sources/source'
import type { HoldSequence } from './sequence'

/** Something that several wait for, and that may fail while nobody does. */
class Meeting {
  resolve!: () => void
  reject!: (error: unknown) => void
  readonly promise = new Promise<void>((resolve, reject) => Object.assign(this, { resolve, reject }))

  constructor() {
    this.promise.catch(() => undefined)
  }
}

/** Lets several captures come together at one moment, within one hold. */
export class SharedMoment implements CaptureMoment {
  private waiting = 0
  private done = 0
  private readonly stretches = new Map<string, TimeRange>()
  private readonly start = new Meeting()
  private readonly end = new Meeting()

  constructor(
    private readonly hold: HoldSequence,
    private readonly captures: number,
  ) {}

  reached(): Promise<void> {
    if (++this.waiting === this.captures) this.hold.begin().then(this.start.resolve, this.start.reject)
    return this.start.promise
  }

  captured(member: string, from: number, to: number): void {
    const before = this.stretches.get(member)
    this.stretches.set(member, { from: Math.min(from, before?.from ?? from), to: Math.max(to, before?.to ?? to) })
  }

  taken(): Promise<void> {
    if (++this.done === this.captures) this.hold.release().then(this.end.resolve, this.end.reject)
    return this.end.promise
  }

  remainingMs(): number | null {
    return this.hold.remainingMs()
  }

  /** What the steps that hold returned, by their names. */
  get values(): Record<string, StepValues> {
    return this.hold.values
  }

  /** One capture failed, so the moment will never be whole: nobody waits for it, and all is released. */
  async fail(error: unknown): Promise<void> {
    this.start.reject(error)
    this.end.reject(error)
    await this.hold.abandon()
  }

  /** When a member was captured, and what held it. */
  factsOf(member: string, sound: boolean, volumes: MemberFacts['volumes'] = []): MemberFacts {
    return { member, sound, captured: this.stretches.get(member) ?? null, steps: this.hold.stepsOf(member), volumes }
  }
}
