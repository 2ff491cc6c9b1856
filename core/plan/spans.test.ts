import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { keepPoints, type AgingPoint } from './keep'
import { defaultRetention, type KeepRule } from './retention'
import { spansOf } from './spans'

const HOUR = 3_600_000
const START = Date.parse('2026-10-20T00:00:00Z')
const zone = 'Europe/Berlin'
const rule: fc.Arbitrary<KeepRule> = fc.oneof(
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

describe('until when the points of a plan stay', () => {
  it('is what retention says of each while the later ones are still to come', () => {
    fc.assert(
      fc.property(
        fc.array(fc.integer({ min: 1, max: 60 }), { minLength: 1, maxLength: 60 }),
        fc.array(rule, { minLength: 1, maxLength: 3 }),
        fc.integer({ min: 1, max: 4 }),
        fc.integer({ min: 0, max: 59 }),
        (gaps, rules, atLeast, cut) => {
          let at = START
          const times = gaps.map((hours) => (at += hours * HOUR))
          const spans = spansOf(times, { rules, atLeast }, zone)
          const made = times.slice(0, Math.min(cut + 1, times.length))
          const points = made.map((at, i): AgingPoint => ({ id: String(i), at, isGood: true, isPlanned: true, term: null, pin: null }))
          const retention = { ...defaultRetention(), rules, atLeast }
          const now = made.at(-1)!
          const kept = keepPoints({ points, retention, zone, now, coming: times.slice(made.length) })
          made.forEach((_, i) => {
            const said = kept.get(String(i))
            expect(said === undefined ? 'gone' : said.until).toEqual(spans[i]! > now ? spans[i] : 'gone')
          })
        },
      ),
      { numRuns: 300 },
    )
  })
})
