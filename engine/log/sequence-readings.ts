import type pg from 'pg'
import { changedSequences, type SequenceReading } from '../../core/changes/sequences'
import type { SequenceState } from '../../core/content/manifest'
import { describeSequences } from '../sources/postgres/describe'

/** A reading may take this share of the time at most: what takes long is done more rarely. */
const APART = 10

/** Sequences move without a word in the log, so they are read again and again. */
export class SequenceReadings {
  private readings: SequenceReading[] = []
  private movedSince = 0
  private notBefore = 0

  /** @param known how all were read last */
  constructor(private known: SequenceState[]) {}

  /**
   * Reads them, unless that was lately.
   *
   * @param position up to where the source had written before
   */
  async read(
    ask: (question: (client: pg.Client) => Promise<SequenceState[]>) => Promise<SequenceState[]>,
    position: string,
  ): Promise<void> {
    const from = Date.now()
    if (from < this.notBefore) return
    const now = await ask(describeSequences)
    const moved = changedSequences(this.known, now)
    this.known = now
    if (moved.length > 0) {
      if (this.readings.length === 0) this.movedSince = from
      this.readings.push({ position, sequences: moved })
    }
    this.notBefore = Date.now() + (Date.now() - from) * APART
  }

  /** Whether something moved so long ago, in milliseconds, that it is to be told though nothing else happens. */
  isOverdue(afterMs: number): boolean {
    if (this.readings.length === 0 || Date.now() - this.movedSince < afterMs) return false
    this.movedSince = Date.now()
    return true
  }

  /** What moved since this was taken last. */
  take(): SequenceReading[] {
    const taken = this.readings
    this.readings = []
    return taken
  }
}
