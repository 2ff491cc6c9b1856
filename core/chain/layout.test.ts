import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { axisStep, axisTicks, mergeMarks, toTime, toX, zoomed, type Scale } from './layout'

const scale: Scale = { from: 0, to: 10_000, left: 200, right: 1200 }

describe('mergeMarks', () => {
  it('shows every mark in view exactly once, in order, and none nearer than the room to the next', () => {
    fc.assert(
      fc.property(fc.array(fc.integer({ min: -5000, max: 15_000 }), { maxLength: 200 }), fc.integer({ min: 2, max: 60 }), (times, room) => {
        const sorted = times.sort((a, b) => a - b)
        const merged = mergeMarks(sorted, scale, room)
        const shown = merged.flatMap(({ first, last }) => Array.from({ length: last - first + 1 }, (_, i) => first + i))
        expect(shown).toEqual([...new Set(shown)].sort((a, b) => a - b))
        sorted.forEach((at, i) => {
          if (at >= scale.from && at <= scale.to) expect(shown).toContain(i)
        })
        merged.slice(1).forEach((mark, i) => {
          expect(toX(scale, sorted[mark.first]!) - toX(scale, sorted[merged[i]!.first]!)).toBeGreaterThanOrEqual(room - 1e-6)
        })
      }),
    )
  })
})

describe('zoomed', () => {
  it('keeps the moment under the pointer, within its bounds', () => {
    fc.assert(
      fc.property(fc.integer({ min: 200, max: 1200 }), fc.double({ min: 0.1, max: 10, noNaN: true }), (x, factor) => {
        const after = zoomed(scale, x, factor, { least: 2000, most: 50_000 })
        expect(toTime(after, x)).toBeCloseTo(toTime(scale, x), 3)
        expect(after.to - after.from).toBeGreaterThanOrEqual(1999)
        expect(after.to - after.from).toBeLessThanOrEqual(50_001)
      }),
    )
  })
})

describe('the axis', () => {
  it('has labels far enough apart, on round times of the zone', () => {
    const day: Scale = { from: 0, to: 86_400_000, left: 0, right: 1000 }
    const step = axisStep(day, 80)
    expect(step).toBe(10_800_000)
    const ticks = axisTicks(day, step, 3_600_000)
    expect(ticks.map((at) => (at + 3_600_000) % step)).toEqual(ticks.map(() => 0))
    expect(ticks).toHaveLength(8)
  })
})
