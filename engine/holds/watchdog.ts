import type { EngineContext } from '../context'
import { Ledger } from './ledger'
import { release } from './release'

const LOOK_EVERY_MS = 1000

/** Releases what is overdue, whoever held it. There is one in every process on the catalog. */
export class Watchdog {
  private timer: NodeJS.Timeout | undefined
  private looking: Promise<void> = Promise.resolve()
  private closed = false

  constructor(private readonly engine: EngineContext) {}

  start(): void {
    this.timer = setTimeout(() => {
      this.looking = releaseOverdue(this.engine)
        .catch((error: Error) => {
          if (!this.closed) console.warn(`the watchdog of holds could not look: ${error.message}`)
        })
        .finally(() => {
          if (!this.closed) this.start()
        })
    }, LOOK_EVERY_MS)
    this.timer.unref()
  }

  async close(): Promise<void> {
    this.closed = true
    clearTimeout(this.timer)
    await this.looking
  }
}

/** Releases everything that nobody else will, the newest first. */
export async function releaseOverdue(engine: EngineContext): Promise<void> {
  for (const line of await new Ledger(engine).overdue()) await release(engine, line, 'watchdog')
}
