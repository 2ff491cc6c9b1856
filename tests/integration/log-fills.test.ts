import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { Filled } from '../../core/plan/fill'
import { standings } from '../../engine/catalog/standing'
import { attentionNeeded } from '../../engine/watch/attention'
import { LogBench } from '../support/log'

// A source keeps more and more log for a vessel, as happens when its follower can't go on: that is told while there is time.

const MB = 1e6
const MINUTE_MS = 60_000
let log: LogBench
beforeAll(async () => {
  log = await LogBench.open('create table item (id int primary key)')
  await log.bench.backup(log.vessel)
  log.follow()
  await log.flush()
  // Nobody measures anew meanwhile.
  await log.unfollow()
})
afterAll(() => log?.close())

/** What is told of a log that climbed evenly to what it is now. */
async function told(climb: { minutes: number; from: number; to: number }, free: number | null): Promise<string[]> {
  const { engine } = log.bench
  const now = engine.clock.now().getTime()
  const steps = climb.minutes * 2
  const measured = Array.from({ length: steps + 1 }, (_, i): Filled => [
    now - (steps - i) * (MINUTE_MS / 2),
    climb.from + ((climb.to - climb.from) * i) / steps,
  ])
  await engine.db
    .updateTable('follower')
    .set({ measured: JSON.stringify(measured), log_free: free, state: 'following', trouble: null, warned: false })
    .where('vessel_id', '=', log.vessel.id)
    .execute()
  const attention = await attentionNeeded(engine, await standings(engine))
  return attention.filter(({ action }) => action === 'See why it is kept').map(({ level, what, to }) => `${level}: ${what} ${to}`)
}

describe('a source whose log grows', () => {
  it('is an error when its disk is full before the limit is reached, with the time that is left', async () => {
    const [first, ...more] = await told({ minutes: 20, from: 100 * MB, to: 500 * MB }, 200 * MB)
    expect(more).toEqual([])
    expect(first).toMatch(
      /^error: db\/\w+ keeps more and more log for .*: at the present rate the disk of its log is full in 10 min\. \/vessels\//,
    )
  })

  it('is a warning when only our own limit is reached, whatever room its disk has', async () => {
    const [first] = await told({ minutes: 20, from: 100 * MB, to: 500 * MB }, 1e15)
    expect(first).toMatch(/^warning: .* its limit is reached in 2[89] min/)
    // Where the disk can't be asked, the limit is what is known.
    expect(await told({ minutes: 20, from: 100 * MB, to: 500 * MB }, null)).toEqual([first])
  })

  it('is not told of what a checkpoint may let go, of what takes longer than a week, and of what falls', async () => {
    expect(await told({ minutes: 10, from: 100 * MB, to: 500 * MB }, 100 * MB)).toEqual([])
    expect(await told({ minutes: 25, from: 100 * MB, to: 101 * MB }, 500_000 * MB)).toEqual([])
    expect(await told({ minutes: 20, from: 500 * MB, to: 500 * MB }, 1 * MB)).toEqual([])
  })
})
