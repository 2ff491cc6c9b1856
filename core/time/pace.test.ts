import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { Pace, ratesOf, type Sample } from './pace'

describe('the pace of a run', () => {
  it('keeps what was moved from the first second to the last, in bounded space, however long it goes on', () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: 1, max: 5000 }), { minLength: 2, maxLength: 2000 }), (steps) => {
        const pace = new Pace(40)
        const all = steps.map((_, i): Sample => [steps.slice(0, i + 1).reduce((sum, ms) => sum + ms, 0), i * 100, i])
        for (const [i, sample] of all.entries()) pace.add(sample, i === all.length - 1)
        expect(pace.samples.length).toBeLessThanOrEqual(41)
        expect(pace.samples[0]).toEqual(all[0])
        // Evenly: none of the stretches between samples is far longer than the others have to be.
        const moved = ratesOf(pace.samples).reduce((sum, { bytes, fromMs, toMs }) => sum + (bytes * (toMs - fromMs)) / 1000, 0)
        expect(moved).toBeCloseTo(pace.samples.at(-1)![1], 3)
        for (const [i, sample] of pace.samples.entries()) if (i > 0) expect(sample[0]).toBeGreaterThan(pace.samples[i - 1]![0])
      }),
      { numRuns: 60 },
    )
  })

  it('takes no more than one a second, and the last one always', () => {
    const pace = new Pace()
    expect([0, 300, 800, 1000, 1500, 2000].map((ms) => pace.add([ms, ms, 0]))).toEqual([true, false, false, true, false, true])
    expect(pace.add([2300, 2300, 0], true)).toBe(true)
    expect(pace.add([2300, 2300, 0], true)).toBe(false)
    expect(pace.samples.at(-1)).toEqual([2300, 2300, 0])
  })

  it('tells how fast it went in each stretch', () => {
    expect(ratesOf([[0, 0, 0]])).toEqual([])
    expect(
      ratesOf([
        [0, 0, 0],
        [2000, 8000, 10],
        [3000, 8000, 10],
      ]),
    ).toEqual([
      { fromMs: 0, toMs: 2000, bytes: 4000, things: 5 },
      { fromMs: 2000, toMs: 3000, bytes: 0, things: 0 },
    ])
  })
})
