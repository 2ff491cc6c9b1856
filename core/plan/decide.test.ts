import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { decide, type LineState } from './decide'
import { dueTimes } from './due'
import type { PlanLine, Schedule } from './schedule'

const MINUTE = 60_000
const at = (text: string) => Date.parse(`2026-11-${text}:00Z`)
const schedule: Schedule = { zone: 'UTC', from: '2026-11-01T00:00:00Z', lines: [], meanwhile: 'wait' }
const line: PlanLine = {
  id: 'a',
  name: 'nightly',
  times: { kind: 'days', at: ['02:00'], on: { of: 'every day' } },
  makes: { kind: 'cycle', points: 3, first: 'full', rest: 'differential' },
}
const state: LineState = { decidedUntil: at('10T00:00'), isPaused: false, waiting: 0, running: 0, last: null }
const window = { minutes: 60, spread: false, close: 'finish' as const }

describe('what is due', () => {
  it('is nothing before its time, and a run at it', () => {
    expect(decide(schedule, line, 'v', state, at('10T01:59'))).toEqual({ decidedUntil: state.decidedUntil, run: null, not: [] })
    const { run, not, decidedUntil } = decide(schedule, line, 'v', state, at('10T02:00'))
    expect([run, not]).toEqual([{ outcome: 'run', due: at('10T02:00'), what: 'full', place: 1, of: 3, lateMs: 0, closesAt: null }, []])
    expect(decide(schedule, line, 'v', { ...state, decidedUntil }, at('10T02:01')).run).toBeNull()
  })

  it('is one run for many times that were missed, which are all decidedTimes of', () => {
    const { run, not } = decide(schedule, line, 'v', state, at('13T05:00'))
    expect(run).toMatchObject({ due: at('13T02:00'), lateMs: 180 * MINUTE })
    expect(not).toEqual([expect.objectContaining({ outcome: 'missed', due: at('10T02:00'), lastDue: at('12T02:00'), times: 3 })])
  })

  it('is missed when its window has closed', () => {
    expect(decide(schedule, { ...line, window }, 'v', state, at('10T02:59')).run).toMatchObject({ closesAt: at('10T03:00') })
    const { run, not } = decide(schedule, { ...line, window }, 'v', state, at('10T03:01'))
    expect(run).toBeNull()
    expect(not).toEqual([expect.objectContaining({ outcome: 'missed', times: 1, why: expect.stringContaining('window closed') })])
  })

  it('waits while nothing may begin at its source, and is missed if its window closes before that ends', () => {
    const quiet = (ms: number) => (ms < at('10T05:00') ? { source: 'db', until: at('10T05:00') } : null)
    const waits = decide(schedule, line, 'v', { ...state, quiet }, at('10T02:00'))
    expect(waits).toEqual({ decidedUntil: state.decidedUntil, run: null, not: [] })
    expect(decide(schedule, line, 'v', { ...state, quiet }, at('10T05:00')).run).toMatchObject({
      due: at('10T02:00'),
      lateMs: 180 * MINUTE,
    })
    const missed = [expect.objectContaining({ outcome: 'missed', why: 'Nothing might begin at db then. Its window closed before.' })]
    expect(decide(schedule, { ...line, window }, 'v', { ...state, quiet }, at('10T02:00')).not).toEqual(missed)
    expect(decide(schedule, { ...line, window }, 'v', { ...state, quiet }, at('10T06:00')).not).toEqual(missed)
    const wide = { ...window, minutes: 240 }
    expect(decide(schedule, { ...line, window: wide }, 'v', { ...state, quiet }, at('10T05:00')).run).not.toBeNull()
    const days = (ms: number) => (ms < at('12T05:00') ? { source: 'db', until: at('12T05:00') } : null)
    expect(decide(schedule, line, 'v', { ...state, quiet: days }, at('12T05:00')).not).toEqual([
      expect.objectContaining({ outcome: 'missed', times: 2, why: 'Nothing might begin at db then.' }),
    ])
  })

  it('is left out while the vessel is paused', () => {
    const { run, not } = decide(schedule, line, 'v', { ...state, isPaused: true }, at('11T03:00'))
    expect(run).toBeNull()
    expect(not.map(({ outcome, times, why }) => [outcome, times, why])).toEqual([
      ['left out', 1, 'The vessel was paused.'],
      ['left out', 1, 'The vessel was paused.'],
    ])
  })

  it('waits behind the run before, once, or is left out, as the plan says', () => {
    const going = { ...state, running: 1 }
    expect(decide(schedule, line, 'v', going, at('10T02:00')).run).not.toBeNull()
    expect(decide(schedule, line, 'v', { ...going, waiting: 1 }, at('10T02:00')).not).toEqual([
      expect.objectContaining({ outcome: 'left out' }),
    ])
    expect(decide({ ...schedule, meanwhile: 'leave out' }, line, 'v', going, at('10T02:00')).not).toEqual([
      expect.objectContaining({ outcome: 'left out', why: expect.stringContaining('still went on') }),
    ])
  })

  it('begins within the first half of its window where vessels are spread, each at its own time', () => {
    const spread = { ...line, window: { ...window, spread: true } }
    const begins = [...'abcdef'].map((vessel) => {
      for (let minute = 0; ; minute++) if (decide(schedule, spread, vessel, state, at('10T02:00') + minute * MINUTE).run) return minute
    })
    expect(new Set(begins).size).toBeGreaterThan(3)
    expect(Math.max(...begins)).toBeLessThanOrEqual(30)
  })

  it('is every time once, however often and late it is looked, and whatever the clock does', () => {
    const looks = fc.array(fc.integer({ min: -300, max: 3000 }), { minLength: 1, maxLength: 60 })
    fc.assert(
      fc.property(looks, fc.boolean(), (steps, isWindowed) => {
        const planned = isWindowed ? { ...line, window } : line
        let now = state.decidedUntil
        let latest = now
        let decidedUntil = now
        const decidedTimes: number[] = []
        for (const step of steps) {
          now += step * MINUTE
          latest = Math.max(latest, now)
          const decided = decide(schedule, planned, 'v', { ...state, decidedUntil }, now)
          decidedUntil = decided.decidedUntil
          for (const { due, lastDue, times } of decided.not) {
            const before = decidedTimes.length
            for (const time of dueTimes(schedule, planned, due - 1)) {
              if (time > lastDue) break
              decidedTimes.push(time)
            }
            expect(decidedTimes.length - before).toBe(times)
          }
          if (decided.run) decidedTimes.push(decided.run.due)
        }
        const expected: number[] = []
        for (const time of dueTimes(schedule, planned, state.decidedUntil)) {
          if (time > latest) break
          expected.push(time)
        }
        expect(decidedTimes).toEqual(expected)
      }),
    )
  })
})
