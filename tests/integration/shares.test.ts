import { afterAll, beforeAll, describe, expect, it, vi } from 'vitest'
import { Duties } from '../../engine/jobs/duties'
import { Shares } from '../../engine/log/shares'
import { Workbench } from '../support/engine'

// Logs are shared out between the workers that are there, and change hands when one goes or sleeps.

let bench: Workbench
beforeAll(async () => {
  bench = await Workbench.open()
})
afterAll(() => bench?.close())

const LOGS = ['a', 'b', 'c', 'd', 'e']
const worker = () => new Shares(new Duties(bench.engine.db))

/** One look, after which what is too much is given up. */
async function look(shares: Shares): Promise<string[]> {
  const { mine, tooMuch } = await shares.followed(LOGS)
  if (tooMuch !== null) await shares.giveUp(tooMuch)
  return [...mine].filter((log) => log !== tooMuch).sort()
}

describe('logs that several workers follow', () => {
  it('are all followed by one, then shared out to those that come, and each is had by one only', async () => {
    const [first, second] = [worker(), worker()]
    expect(await look(first)).toEqual(LOGS)
    for (let i = 0; i < 8; i++) for (const supervisor of [second, first]) await look(supervisor)
    const [a, b] = [await look(first), await look(second)]
    expect([a.length, b.length].sort()).toEqual([2, 3])
    expect([...a, ...b].sort()).toEqual(LOGS)
    await second.close()
    expect(await look(first)).toEqual(LOGS)
    await first.close()
  })

  it('go to another when nothing is heard of the one that has them, by the clock of the catalog', async () => {
    const [sleeper, other] = [worker(), worker()]
    expect(await look(sleeper)).toEqual(LOGS)
    expect(await look(other)).toEqual([])
    await vi.waitFor(async () => expect(await look(other)).toEqual(LOGS), { timeout: 20_000, interval: 200 })
    // Awake again, it sees that they are not its own any more.
    expect((await look(sleeper)).length).toBe(0)
    await Promise.all([sleeper.close(), other.close()])
  }, 30_000)
})
