import { setTimeout } from 'node:timers/promises'
import type { RunContext } from './context'

/** Whoever has these to do waits for nobody who only looks after a store. */
const FIRST = ['backup', 'restore', 'undo', 'rehearsal', 'fetch'] as const
const LOOKED_EVERY_MS = 400
/** It works so long at a stretch, and rests so many times as long. */
const STRETCH_MS = 40
const RESTS = 5
const RESTS_AT_MOST_MS = 2000

/** Lets others go first: while any of them is at work, whatever asks in between rests longer than it works. */
export class GivingWay {
  private lookedAt = -Infinity
  private isOtherAtWork = false
  private workedFrom = performance.now()

  constructor(private readonly run: RunContext) {}

  async rest(): Promise<void> {
    const now = performance.now()
    if (now - this.lookedAt > LOOKED_EVERY_MS) {
      this.isOtherAtWork = await this.look()
      this.lookedAt = now
    }
    const worked = now - this.workedFrom
    if (!this.isOtherAtWork) this.workedFrom = now
    else if (worked > STRETCH_MS) {
      await setTimeout(Math.min(worked * RESTS, RESTS_AT_MOST_MS), undefined, { signal: this.run.signal })
      this.workedFrom = performance.now()
    }
  }

  private async look(): Promise<boolean> {
    const row = await this.run.engine.db
      .selectFrom('run')
      .select('id')
      .where('state', '=', 'running')
      .where('kind', 'in', FIRST)
      .limit(1)
      .executeTakeFirst()
    return row !== undefined
  }
}
