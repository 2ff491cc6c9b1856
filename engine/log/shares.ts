import type { Duties } from '../jobs/duties'

/** How long a log is this worker's without a word of it, by the catalog's clock. */
const HELD_MS = 6000
/** A log that nobody has taken for so many looks is taken by whoever sees it, whatever its share is. */
const LEFT_LOOKS = 3

/**
 * Which logs this worker follows: each is had by one worker for a while, and they are shared out evenly between those
 * that are there. Whoever dies or sleeps loses its logs to the others; whoever has more than its share lets one go.
 */
export class Shares {
  /** For how many looks a log was nobody's. */
  private readonly free = new Map<string, number>()

  constructor(private readonly duties: Duties) {}

  /**
   * Which of all logs are this worker's from now on, and one of them that others should have.
   *
   * @param mayTake whether one that is nobody's may become this worker's now
   */
  async followed(all: string[], mayTake: (log: string) => boolean = () => true): Promise<{ mine: Set<string>; tooMuch: string | null }> {
    const mine = await this.duties.keep('log', HELD_MS)
    const followed = new Set(all.filter((log) => mine.has(dutyOf(log))))
    const share = Math.ceil(all.length / (await this.duties.present('follows', HELD_MS)))
    const held = await this.duties.held('log')
    for (const log of all) {
      const looks = held.has(dutyOf(log)) ? 0 : (this.free.get(log) ?? 0) + 1
      if (looks > 0) this.free.set(log, looks)
      else this.free.delete(log)
      const isDue = looks > 0 && mayTake(log) && (followed.size < share || looks > LEFT_LOOKS)
      if (isDue && (await this.duties.take(dutyOf(log), HELD_MS))) followed.add(log)
    }
    return { mine: followed, tooMuch: followed.size > share ? [...followed].at(-1)! : null }
  }

  giveUp(log: string): Promise<void> {
    return this.duties.giveUp(dutyOf(log))
  }

  async close(): Promise<void> {
    await this.duties.giveUpAll('log')
    await this.duties.giveUpAll('follows')
  }
}

const dutyOf = (log: string) => `log ${log}`
