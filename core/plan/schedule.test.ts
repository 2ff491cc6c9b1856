import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { wallOf } from '../time/zone'
import { comingPlaces, nextPlace } from './cycle'
import { closesAt, dueTimes, nextDue, spreadOf } from './due'
import { makesInWords, placeInPlan, timesInWords } from './words'
import { scheduleTroubles, type Days, type Makes, type PlanLine, type Schedule, type Times } from './schedule'

const at = (text: string) => Date.parse(text)
const iso = (ms: number) => new Date(ms).toISOString().slice(0, 16)
const zoneOf = (zone: string, from = '2026-01-01T00:00:00Z') => ({ zone, from })
function first(count: number, times: Times, after: string, schedule = zoneOf('Europe/Berlin')): string[] {
  const found: string[] = []
  for (const time of dueTimes(schedule, { times }, at(after))) if (found.push(iso(time)) === count) break
  return found
}
const daily = (...at: string[]): Times => ({ kind: 'days', at, on: { of: 'every day' } })
const on = (on: Days, ...at: string[]): Times => ({ kind: 'days', at: at.length > 0 ? at : ['12:00'], on })

describe('when a line is due', () => {
  it('every so many hours goes on over a change of the clock', () => {
    const times: Times = { kind: 'every', count: 6, unit: 'hours' }
    const schedule = zoneOf('Europe/Berlin', '2027-03-27T20:00:00Z')
    expect(first(3, times, '2027-03-27T00:00Z', schedule)).toEqual(['2027-03-27T20:00', '2027-03-28T02:00', '2027-03-28T08:00'])
    expect(first(1, times, '2027-03-28T02:00Z', schedule)).toEqual(['2027-03-28T08:00'])
  })

  it('at times of the day keeps them over a change of the clock, once each', () => {
    expect(first(3, daily('02:30'), '2027-03-27T00:00Z')).toEqual(['2027-03-27T01:30', '2027-03-28T01:00', '2027-03-29T00:30'])
    expect(first(3, daily('02:30'), '2027-10-30T00:00Z')).toEqual(['2027-10-30T00:30', '2027-10-31T00:30', '2027-11-01T01:30'])
    // Two of which both fall on the first time after the gap are due once.
    expect(first(3, daily('02:15', '02:45', '03:00'), '2027-03-28T00:00Z')).toEqual([
      '2027-03-28T01:00',
      '2027-03-29T00:15',
      '2027-03-29T00:45',
    ])
  })

  it('on days of the week, of the month, and of its weeks', () => {
    const utc = zoneOf('UTC')
    expect(first(3, on({ of: 'week', days: [1, 5] }), '2026-11-29T00:00Z', utc)).toEqual([
      '2026-11-30T12:00',
      '2026-12-04T12:00',
      '2026-12-07T12:00',
    ])
    expect(first(3, on({ of: 'month', day: 31 }), '2027-01-01T00:00Z', utc)).toEqual([
      '2027-01-31T12:00',
      '2027-02-28T12:00',
      '2027-03-31T12:00',
    ])
    expect(first(2, on({ of: 'weekday of month', which: 'last', weekday: 5 }), '2026-11-01T00:00Z', utc)).toEqual([
      '2026-11-27T12:00',
      '2026-12-25T12:00',
    ])
    expect(first(2, on({ of: 'weekday of month', which: 2, weekday: 7 }), '2026-11-01T00:00Z', utc)).toEqual([
      '2026-11-08T12:00',
      '2026-12-13T12:00',
    ])
  })

  it('by a cron expression, in the zone of the plan', () => {
    expect(first(2, { kind: 'cron', expression: '30 2 * * 7' }, '2027-03-22T00:00Z')).toEqual(['2027-03-28T01:00', '2027-04-04T00:30'])
    expect(first(3, { kind: 'cron', expression: '*/20 2 * * *' }, '2027-10-31T00:10Z')).toEqual([
      '2027-10-31T00:20',
      '2027-10-31T00:40',
      '2027-11-01T01:00',
    ])
  })

  it('never before its first start', () => {
    expect(first(1, daily('02:00'), '2020-01-01T00:00Z', zoneOf('UTC', '2027-01-01T02:00:00Z'))).toEqual(['2027-01-01T02:00'])
    expect(nextDue(zoneOf('UTC', '2027-01-01T02:00:01Z'), { times: daily('02:00') }, 0)).toBe(at('2027-01-02T02:00Z'))
  })

  it('is the same whenever it is asked, ascending, and what the clock of the zone shows', () => {
    const zone = fc.constantFrom('Europe/Berlin', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kathmandu', 'UTC')
    const clock = fc
      .integer({ min: 0, max: 1439 })
      .map((minute) => `${String(Math.floor(minute / 60)).padStart(2, '0')}:${String(minute % 60).padStart(2, '0')}`)
    const times: fc.Arbitrary<Times> = fc.oneof(
      fc.record({ kind: fc.constant('every' as const), count: fc.integer({ min: 1, max: 50 }), unit: fc.constantFrom('minutes', 'hours') }),
      fc.record({
        kind: fc.constant('days' as const),
        at: fc.uniqueArray(clock, { minLength: 1, maxLength: 3 }),
        on: fc.constant<Days>({ of: 'every day' }),
      }),
      fc.constantFrom('*/7 * * * *', '0 */3 * * *', '15 2 1 * *', '0 3 * * 1-5').map((expression): Times => ({ kind: 'cron', expression })),
    )
    const moment = fc.integer({ min: at('2026-10-20T00:00Z'), max: at('2027-04-10T00:00Z') })
    fc.assert(
      fc.property(zone, times, moment, (zone, times, after) => {
        const schedule = zoneOf(zone)
        const all: number[] = []
        for (const time of dueTimes(schedule, { times }, after)) if (all.push(time) === 40) break
        for (const [i, time] of all.entries()) {
          expect(time).toBeGreaterThan(i === 0 ? after : all[i - 1]!)
          // Asked from anywhere between, it is the same.
          expect(nextDue(schedule, { times }, time - 1)).toBe(time)
          if (i > 0) expect(nextDue(schedule, { times }, all[i - 1]!)).toBe(time)
        }
        if (times.kind !== 'days') return
        const shown = all.map((time) => new Date(wallOf(zone, time)).toISOString().slice(11, 16))
        expect(shown.filter((text) => !times.at.includes(text)).length).toBeLessThanOrEqual(2)
      }),
      { numRuns: 200 },
    )
  })
})

describe('a cycle', () => {
  const makes: Makes = { kind: 'cycle', points: 3, first: 'full', rest: 'differential' }
  const what = (last: Parameters<typeof nextPlace>[1]) => nextPlace(makes, last)

  it('goes on from the last point that was made, and begins anew after the last', () => {
    expect(what(null)).toEqual({ what: 'full', place: 1, of: 3 })
    expect(what({ place: 1, of: 3, isDone: true })).toEqual({ what: 'differential', place: 2, of: 3 })
    expect(what({ place: 3, of: 3, isDone: true })).toEqual({ what: 'full', place: 1, of: 3 })
  })

  it('makes again what came to nothing, and begins anew when its length was changed', () => {
    expect(what({ place: 1, of: 3, isDone: false })).toEqual({ what: 'full', place: 1, of: 3 })
    expect(what({ place: 2, of: 3, isDone: false })).toEqual({ what: 'differential', place: 2, of: 3 })
    expect(what({ place: 5, of: 7, isDone: true })).toEqual({ what: 'full', place: 1, of: 3 })
  })

  it('tells what it will make, with real times', () => {
    const coming = comingPlaces(zoneOf('UTC'), { times: daily('02:00'), makes }, { place: 2, of: 3, isDone: true }, at('2026-11-29T00:00Z'))
    expect([...Array(4)].map(() => coming.next().value!).map(({ at, what, place }) => [iso(at), what, place])).toEqual([
      ['2026-11-29T02:00', 'differential', 3],
      ['2026-11-30T02:00', 'full', 1],
      ['2026-12-01T02:00', 'differential', 2],
      ['2026-12-02T02:00', 'differential', 3],
    ])
  })
})

describe('a window', () => {
  const line = { window: { minutes: 60, spread: true, close: 'finish' as const } }
  it('lets vessels begin at different times of its first half, each always at its own', () => {
    const begins = Array.from({ length: 200 }, (_, i) => spreadOf(line, `vessel-${i}`))
    expect(begins.every((ms) => ms >= 0 && ms < 30 * 60_000)).toBe(true)
    expect(new Set(begins.map((ms) => Math.floor(ms / 60_000))).size).toBeGreaterThan(25)
    expect(spreadOf(line, 'vessel-7')).toBe(begins[7])
    expect(spreadOf({}, 'vessel-7')).toBe(0)
  })
  it('closes after its minutes', () => {
    expect(closesAt(line, 0)).toBe(3_600_000)
    expect(closesAt({}, 0)).toBeNull()
  })
})

describe('a schedule that can’t be used', () => {
  const line = (more: Partial<PlanLine> = {}): PlanLine => ({
    id: 'a',
    name: 'nightly',
    times: daily('02:00'),
    makes: { kind: 'each', what: 'full' },
    ...more,
  })
  const troubles = (more: Partial<Schedule>) =>
    scheduleTroubles({ zone: 'Europe/Berlin', from: '2026-01-01T00:00:00Z', lines: [line()], meanwhile: 'wait', ...more })
  const ofTimes = (times: Times) => troubles({ lines: [line({ times })] }).join(' ')

  it('says why, of each of its parts', () => {
    expect(troubles({})).toEqual([])
    expect(troubles({ zone: 'Mars/Olympus' })).toEqual(['There is no time zone “Mars/Olympus”.'])
    expect(troubles({ from: 'soon' })).toEqual(['The first start of the plan is no time.'])
    expect(troubles({ lines: [] })).toEqual([expect.stringContaining('no line')])
    expect(troubles({ lines: [line(), line({ id: 'b', name: 'Nightly ' })] })).toEqual([expect.stringContaining('the same name')])
    expect(ofTimes({ kind: 'every', count: 0, unit: 'minutes' })).toContain('every 1 to')
    expect(ofTimes(daily())).toContain('times of the day')
    expect(ofTimes(daily('2:00'))).toContain('“2:00” is no time of the day')
    expect(ofTimes(on({ of: 'week', days: [] }))).toContain('No day of the week')
    expect(ofTimes(on({ of: 'month', day: 32 }))).toContain('1 to 31')
    expect(ofTimes({ kind: 'cron', expression: '0 2 * *' })).toContain('five fields')
    expect(ofTimes({ kind: 'cron', expression: '0 99 * * *' })).toContain('can’t be read')
    expect(ofTimes({ kind: 'cron', expression: '0 2 30 2 *' })).toContain('never comes')
    const cycle: Makes = { kind: 'cycle', points: 1, first: 'full', rest: 'differential' }
    expect(troubles({ lines: [line({ makes: cycle })] }).join()).toContain('2 to 1000 points')
    expect(troubles({ lines: [line({ window: { minutes: 0, spread: false, close: 'finish' } })] }).join()).toContain('a minute to a week')
  })
})

describe('a plan in words', () => {
  it('says when', () => {
    const words = [
      { kind: 'every', count: 1, unit: 'hours' },
      { kind: 'every', count: 15, unit: 'minutes' },
      daily('14:00', '02:00'),
      on({ of: 'week', days: [5, 1] }),
      on({ of: 'week', days: [1, 2, 3, 4, 5] }),
      on({ of: 'month', day: 22 }),
      on({ of: 'weekday of month', which: 'last', weekday: 5 }),
      { kind: 'cron', expression: ' 0 2 * * * ' },
    ] satisfies Times[]
    expect(words.map(timesInWords)).toEqual([
      'every hour',
      'every 15 minutes',
      'every day at 02:00 and 14:00',
      'Monday and Friday at 12:00',
      'Monday to Friday at 12:00',
      'the 22nd of each month at 12:00',
      'the last Friday of each month at 12:00',
      'by 0 2 * * *',
    ])
  })

  it('says what', () => {
    expect(makesInWords({ kind: 'each', what: 'incremental' })).toBe('an incremental each time')
    expect(makesInWords({ kind: 'cycle', points: 7, first: 'synthetic', rest: 'incremental' })).toBe(
      '7 points: a synthetic full, then incrementals',
    )
    expect(placeInPlan({ place: 3, of: 7, line: 'nightly' }, 'differential')).toBe('3 of 7, differential, nightly')
    expect(placeInPlan({ place: 1, of: 1, line: 'weekly' }, 'full')).toBe('full, weekly')
  })
})
