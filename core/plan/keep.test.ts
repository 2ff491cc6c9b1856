import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { keepPoints, periodOf, type AgingPoint, type KeepQuestion } from './keep'
import { defaultRetention, retentionTroubles, ruleInWords, type KeepRule, type Retention } from './retention'

const HOUR = 3_600_000
const DAY = 24 * HOUR
const START = Date.parse('2026-10-01T00:00:00Z')
const zone = 'Europe/Berlin'

const aging = (id: string, at: number, more: Partial<AgingPoint> = {}): AgingPoint => ({
  ...{ id, at, isGood: true, isPlanned: true, term: null, pin: null },
  ...more,
})
const days = (count: number, more: (day: number) => Partial<AgingPoint> = () => ({})) =>
  Array.from({ length: count }, (_, day) => aging(`d${day}`, START + day * DAY + 2 * HOUR, more(day)))
const only = (...rules: KeepRule[]): Retention => ({ ...defaultRetention(), rules, atLeast: 1 })
const kept = (question: Omit<KeepQuestion, 'zone'> & { zone?: string }) => [...keepPoints({ zone, ...question }).keys()].sort()

describe('what the rules keep', () => {
  const now = START + 20 * DAY

  it('is the last ones, what is young enough, and the first good one of each stretch of the calendar', () => {
    const points = days(20)
    expect(kept({ points, now, retention: only({ kind: 'last', points: 2 }) })).toEqual(['d18', 'd19'])
    expect(kept({ points, now, retention: only({ kind: 'all', count: 3, unit: 'days' }) })).toEqual(['d17', 'd18', 'd19'])
    // The first of October 2026 is a Thursday: Mondays are the 5th, 12th and 19th.
    expect(kept({ points, now, retention: only({ kind: 'calendar', each: 'week', count: 3 }) })).toEqual(['d11', 'd18', 'd19', 'd4'])
  })

  it('counts days that have a point, so that a pause takes nothing away', () => {
    const later = START + 200 * DAY
    expect(kept({ points: days(20), now: later, retention: only({ kind: 'calendar', each: 'day', count: 3 }) })).toEqual([
      'd17',
      'd18',
      'd19',
    ])
    expect(kept({ points: days(20), now: later, retention: only({ kind: 'all', count: 3, unit: 'days' }) })).toEqual(['d19'])
    expect(kept({ points: days(20), now: later, retention: { ...only({ kind: 'all', count: 3, unit: 'days' }), atLeast: 4 } })).toEqual([
      ...['d16', 'd17', 'd18', 'd19'],
    ])
  })

  it('goes by the calendar of its zone', () => {
    const at = Date.parse('2026-10-24T22:30:00Z')
    expect(periodOf('UTC', 'day', at)).toBe(periodOf(zone, 'day', at) - 1)
    // The hour that the clock shows twice is one hour of the calendar.
    const [first, second] = [Date.parse('2026-10-25T00:30:00Z'), Date.parse('2026-10-25T01:30:00Z')]
    expect(periodOf(zone, 'hour', first)).toBe(periodOf(zone, 'hour', second))
  })

  it('leaves what somebody backed up to what was said then, and pins to their end', () => {
    const points = [
      aging('for ever', START, { isPlanned: false }),
      aging('over', START, { isPlanned: false, term: now - 1 }),
      aging('term', START, { isPlanned: false, term: now + 1 }),
      aging('pinned', START, { pin: { reason: 'the audit', until: null } }),
      aging('unpinned', START, { pin: { reason: 'the audit', until: now } }),
      ...days(20),
    ]
    const retention = only({ kind: 'last', points: 1 })
    expect(kept({ points, now, retention })).toEqual(['d19', 'for ever', 'pinned', 'term'])
    expect(keepPoints({ points, now, retention, zone }).get('pinned')).toEqual({ by: { kind: 'pin', reason: 'the audit' }, until: null })
  })

  it('ends with the vessel: then a term is left, whatever the rules say', () => {
    const goneAt = now - 80 * DAY
    const points = [...days(3), aging('by hand', START, { isPlanned: false, term: now - 1 })]
    const retention = only({ kind: 'last', points: 1 })
    expect(kept({ points, now, retention, goneAt })).toEqual(['by hand', 'd0', 'd1', 'd2'])
    expect(kept({ points, now: goneAt + 91 * DAY, retention, goneAt })).toEqual(['by hand'])
  })

  it('keeps the last that holds what is gone', () => {
    const lastOf = [{ point: 'd3', path: 'db/shop/public/order', goneAt: START + 4 * DAY }]
    expect(kept({ points: days(20), now, retention: only({ kind: 'last', points: 1 }), lastOf })).toEqual(['d19', 'd3'])
  })
})

const rule = fc.oneof(
  fc.record({ kind: fc.constant('last' as const), points: fc.integer({ min: 1, max: 6 }) }),
  fc.record({
    kind: fc.constant('all' as const),
    count: fc.integer({ min: 1, max: 9 }),
    unit: fc.constantFrom('hours' as const, 'days' as const),
  }),
  fc.record({
    kind: fc.constant('calendar' as const),
    each: fc.constantFrom('hour' as const, 'day' as const, 'week' as const, 'month' as const, 'year' as const),
    count: fc.integer({ min: 1, max: 6 }),
  }),
)
const asked = fc.record({
  gaps: fc.array(fc.record({ hours: fc.integer({ min: 1, max: 60 }), isGood: fc.constantFrom(true, true, true, false) }), {
    minLength: 1,
    maxLength: 40,
  }),
  rules: fc.array(rule, { minLength: 1, maxLength: 3 }),
  atLeast: fc.integer({ min: 1, max: 4 }),
})
const questionOf = ({ gaps, rules, atLeast }: typeof asked extends fc.Arbitrary<infer T> ? T : never) => {
  let at = START
  const points = gaps.map(({ hours, isGood }, i) => aging(`p${i}`, (at += hours * HOUR), { isGood }))
  return { points, now: at + HOUR, retention: { ...only(...rules), atLeast } }
}

describe('whatever the rules are', () => {
  it('a point that is not good displaces no good one', () => {
    fc.assert(
      fc.property(asked, (wanted) => {
        const { points, ...question } = questionOf(wanted)
        const all = keepPoints({ ...question, points, zone })
        const good = points.filter(({ isGood }) => isGood)
        for (const id of keepPoints({ ...question, points: good, zone }).keys()) expect(all.has(id)).toBe(true)
        expect(good.slice(-question.retention.atLeast).every(({ id }) => all.has(id))).toBe(true)
      }),
    )
  })

  it('what lapsed never would have been kept again, and what a point is said to be kept until is true', () => {
    fc.assert(
      fc.property(asked, fc.array(fc.integer({ min: 1, max: 40 }), { minLength: 8, maxLength: 60 }), (wanted, more) => {
        const { points, now, retention } = questionOf(wanted)
        let at = now
        const coming = more.map((hours) => (at += hours * HOUR))
        const first = keepPoints({ points, now, retention, zone, coming })
        // The plan goes on; at each point, and just before, it is looked again.
        for (const [i, next] of coming.entries())
          for (const moment of [next - 1, next]) {
            const there = coming.slice(0, moment === next ? i + 1 : i).map((made, n) => aging(`n${n}`, made))
            const then = keepPoints({ points: [...points, ...there], now: moment, retention, zone })
            for (const { id } of points) {
              const said = first.get(id)
              const stays = said !== undefined && (typeof said.until !== 'number' || said.until > moment)
              expect([id, moment, then.has(id)]).toEqual([id, moment, stays])
            }
          }
      }),
      { numRuns: 60 },
    )
  })
})

describe('how long, as it is written', () => {
  it('is read as it is meant', () => {
    expect(defaultRetention().rules.map(ruleInWords)).toEqual([
      'everything of 3 days',
      'one a day, for 14 days',
      'one a week, for 8 weeks',
      'one a month, for 12 months',
    ])
    expect(retentionTroubles(defaultRetention())).toEqual([])
  })

  it('is refused where it says nothing, or what can’t be', () => {
    expect(retentionTroubles({ ...defaultRetention(), rules: [] })).toEqual([expect.stringContaining('No rule')])
    expect(retentionTroubles(only({ kind: 'last', points: 0.5 }))).toHaveLength(1)
    expect(retentionTroubles({ ...defaultRetention(), atLeast: 0, logHours: -1, byHandDays: 0 })).toHaveLength(3)
  })
})
