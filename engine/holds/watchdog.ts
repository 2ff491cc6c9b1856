import { grouped } from '../../core/grouped'
import type { EngineContext } from '../context'
import { Ledger } from './ledger'
import { releaseAll } from './release'

const LOOK_EVERY_MS = 1000

/** Releases what is overdue, whoever held it. There is one in every process on the catalog. */
export class Watchdog {
  private timer: NodeJS.Timeout | undefined
  private looking: Promise<void> = Promise.resolve()
  private closed = false
  /** What is being released, by run: a release that hangs holds up no look, and no other run. */
  private readonly atWork = new Map<string, Promise<void>>()

  constructor(private readonly engine: EngineContext) {}

  start(): void {
    this.timer = setTimeout(() => {
      this.looking = this.look()
        .catch((error: Error) => this.warn(error))
        .finally(() => {
          if (!this.closed) this.start()
        })
    }, LOOK_EVERY_MS)
    this.timer.unref()
  }

  private async look(): Promise<void> {
    const due = await new Ledger(this.engine).overdue()
    for (const [run, lines] of grouped(due, ({ runId }) => runId)) {
      if (this.atWork.has(run)) continue
      const releasing = releaseAll(this.engine, lines, 'watchdog')
        .then(
          () => undefined,
          (error: Error) => this.warn(error),
        )
        .finally(() => this.atWork.delete(run))
      this.atWork.set(run, releasing)
    }
  }

  private warn(error: Error): void {
    if (!this.closed) console.warn(`the watchdog of holds: ${error.message}`)
  }

  async close(): Promise<void> {
    this.closed = true
    clearTimeout(this.timer)
    await this.looking
    await Promise.all(this.atWork.values())
  }
}

/** Releases everything that nobody else will, and waits for it. */
export async function releaseOverdue(engine: EngineContext): Promise<void> {
  await releaseAll(engine, await new Ledger(engine).overdue(), 'watchdog')
}
