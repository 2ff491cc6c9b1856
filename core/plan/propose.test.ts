import { describe, expect, it } from 'vitest'
import { longestBetween } from './loss'
import { proposePlan, type Asked } from './propose'
import { retentionTroubles } from './retention'
import { scheduleTroubles } from './schedule'
import { simulate, type Sizes } from './simulate'

const HOUR = 3_600_000
const GB = 1e9
const NOW = Date.parse('2026-11-29T15:00:30Z')
const sizes: Sizes = {
  fullBytes: 10 * GB,
  plainBytes: 30 * GB,
  changedPerDay: GB,
  differentialPerDay: GB / 2,
  incrementalPerDay: GB / 4,
  logPerDay: GB,
  restoredPerSecond: 30e6,
  assumed: [],
}
const asked = (more: Partial<Asked> = {}): Asked => ({
  promises: { couldLose: null, backWithin: null },
  sizes,
  zone: 'Europe/Berlin',
  now: NOW,
  canLog: false,
  id: 'a',
  ...more,
})
const lose = (hours: number, more: Partial<Asked> = {}) =>
  proposePlan(asked({ promises: { couldLose: hours * HOUR, backWithin: null }, ...more }))

describe('a plan that is proposed', () => {
  it('can be used, and makes points as often as what may be lost asks for, over changes of the clock, too', () => {
    for (const hours of [0.5, 1, 2, 4, 6, 8, 9, 12, 14, 24, 27, 48, 1000]) {
      const { schedule, retention, follow } = lose(hours)
      expect([scheduleTroubles(schedule), retentionTroubles(retention), follow]).toEqual([[], [], false])
      expect(longestBetween(schedule, NOW)! / HOUR).toBeLessThanOrEqual(hours)
    }
    // A night has up to 25 hours, and its run two in which to begin.
    expect(lose(27).schedule.lines[0]!.name).toBe('nightly')
    expect(lose(26).schedule.lines[0]!.name).toBe('2 times a day')
    expect(lose(26, { zone: 'UTC' }).schedule.lines[0]!.name).toBe('nightly')
  })

  it('follows the log where that can be, rather than to read all day; else says what it does not keep', () => {
    const { schedule, follow } = lose(0.1, { canLog: true })
    expect([follow, schedule.lines[0]!.name]).toEqual([true, 'nightly'])
    expect(lose(12, { canLog: true }).follow).toBe(false)
    const without = lose(0.1)
    expect(without.schedule.lines[0]!.name).toBe('every 15 minutes')
    expect(without.why[0]).toBe('A point every 15 minutes is the most that is proposed; to lose less than that, follow the log.')
  })

  it('has cycles only as long as everything still comes back in time', () => {
    const within = (seconds: number, more: Partial<Sizes> = {}) =>
      proposePlan(asked({ promises: { couldLose: 48 * HOUR, backWithin: seconds * 1000 }, sizes: { ...sizes, ...more } }))
    const pointsOf = ({ schedule }: ReturnType<typeof within>) => {
      const { makes } = schedule.lines[0]!
      return makes.kind === 'cycle' ? makes.points : 1
    }
    // The full takes 1000 s, and each day of a differential 50 s more.
    expect([1400, 1200, 1100, 1040, 900].map((seconds) => pointsOf(within(seconds)))).toEqual([7, 4, 2, 1, 1])
    for (const seconds of [1400, 1200, 1100, 1040]) {
      const { schedule } = within(seconds)
      const { days } = simulate({ schedule, retention: null, sizes, price: null, logSeconds: null }, NOW, 60)
      expect(Math.max(...days.map(({ worstBackMs }) => worstBackMs)) / 1000).toBeLessThanOrEqual(seconds)
    }
    expect(within(900).why.at(-1)).toMatch(/^Even from a full alone, everything takes 17 min to come back, and 15 min is promised/)
    const restless = within(10_000, { differentialPerDay: 6 * GB })
    expect([pointsOf(restless), restless.why.at(-1)]).toEqual([1, 'So much changes in a day that each point is a full.'])
  })
})
