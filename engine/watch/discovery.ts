import { errorRecord } from '../../core/errors'
import { reaches } from '../catalog/source-access'
import { discoverSource, sourceById } from '../catalog/sources'
import type { EngineContext } from '../context'
import type { Duties } from '../jobs/duties'
import { passed } from '../passed'
import { WATCHED } from '../sources/adapter'

const LOOK_EVERY_MS = 5000
/** A worker of which nothing is heard for so long watches no more. */
const HELD_MS = 20_000
/** Changes come in swarms; what they come to is looked at once. */
const SETTLE_MS = 700
const AGAIN_MS = [1000, 5000, 20_000, 60_000]

const dutyOf = (id: string) => `watch ${id}`

interface Watching {
  /** How it is reached, as a digest. */
  reach: string
  stop: AbortController
  done: Promise<void>
}

/** Follows what sources of kinds that can tell of changes hold, so that what is known of them is true within moments. */
export class DiscoveryWatch {
  private readonly watching = new Map<string, Watching>()
  private timer: NodeJS.Timeout | undefined
  private closed = false

  constructor(
    private readonly engine: EngineContext,
    private readonly duties: Duties,
  ) {}

  start(): void {
    const look = () => void this.look().catch((error: Error) => console.warn(`watching sources: ${error.message}`))
    this.timer = setInterval(look, LOOK_EVERY_MS)
    look()
  }

  private async look(): Promise<void> {
    const reach = await reaches(this.engine)
    const rows = await this.engine.db.selectFrom('source').select(['id', 'name']).where('kind', 'in', WATCHED).execute()
    for (const { id, name } of rows) {
      // One of all workers watches a source.
      if (!(await this.duties.take(dutyOf(id), HELD_MS))) {
        this.watching.get(id)?.stop.abort()
        continue
      }
      if (this.watching.has(id) || this.closed) continue
      const stop = new AbortController()
      this.watching.set(id, { reach: reach.get(id)!, stop, done: this.follow(id, name, stop.signal) })
    }
    // What is gone ends; what is reached in another way is watched anew when the old watch has ended.
    for (const [id, { reach: was, stop }] of this.watching) if (reach.get(id) !== was) stop.abort()
  }

  private async follow(id: string, name: string, signal: AbortSignal): Promise<void> {
    for (let failures = 0; !signal.aborted;) {
      const began = Date.now()
      try {
        await this.watchOnce(id, signal)
      } catch (error) {
        if (failures === 0) console.warn(`watching ${name}: ${errorRecord(error).what}`)
      }
      // What it knows of the source's trouble is written down by looking.
      if (!signal.aborted) await discoverSource(this.engine, id).catch(() => undefined)
      failures = Date.now() - began > 30_000 ? 0 : failures + 1
      await passed(AGAIN_MS[Math.min(failures, AGAIN_MS.length) - 1] ?? 0, signal)
    }
    this.watching.delete(id)
  }

  private async watchOnce(id: string, signal: AbortSignal): Promise<void> {
    let due: NodeJS.Timeout | undefined
    let looking: Promise<void> = Promise.resolve()
    /** What it finds may have been so since then. */
    let since: Date | undefined
    const discover = () => {
      const seenUntil = since
      since = undefined
      return discoverSource(this.engine, id, seenUntil)
    }
    const changed = (forMs?: number) => {
      clearTimeout(due)
      if (forMs !== undefined) since ??= new Date(this.engine.clock.now().getTime() - forMs)
      due = setTimeout(() => (looking = looking.then(discover).catch(() => undefined)), SETTLE_MS)
    }
    try {
      const source = await sourceById(this.engine, id)
      await source.watch!(changed, signal)
    } finally {
      clearTimeout(due)
      await looking
    }
  }

  async close(): Promise<void> {
    this.closed = true
    clearInterval(this.timer)
    const [ids, all] = [[...this.watching.keys()], [...this.watching.values()]]
    for (const { stop } of all) stop.abort()
    await Promise.all(all.map(({ done }) => done))
    for (const id of ids) await this.duties.giveUp(dutyOf(id)).catch(() => undefined)
  }
}
