import { describe, expect, it } from 'vitest'
import { axisLabel, dateOf, dayOf, whenOf } from './when'

// A Tuesday, in the zone of whoever runs this.
const now = new Date(2026, 10, 24, 10, 26, 14)
const at = (day: number, hour: number, minute = 0, second = 0) => new Date(2026, 10, day, hour, minute, second)

describe('dayOf', () => {
  it('names the days that are near, and dates the others', () => {
    const days = [24, 23, 25, 20, 18, 17, 3].map((day) => dayOf(at(day, 12), now))
    expect(days).toEqual(['today', 'yesterday', 'tomorrow', 'Friday', 'Wednesday', '17 Nov', '3 Nov'])
    expect(whenOf(at(23, 4, 10), now)).toBe('yesterday 04:10')
  })

  it('tells the year wherever it is not this one', () => {
    expect(dayOf(new Date(2025, 10, 24, 12), now)).toBe('24 Nov 2025')
    expect(dayOf(new Date(2025, 11, 30, 12), new Date(2026, 0, 2, 12))).toBe('Tuesday')
    expect(dateOf(new Date(2025, 11, 30, 12), new Date(2026, 0, 2, 12))).toBe('30 Dec 2025')
    expect(axisLabel(new Date(2025, 0, 1).getTime(), 86_400_000, now)).toBe('1 Jan 2025')
  })

  it('goes by the calendar and not by hours', () => {
    expect(dayOf(new Date(2026, 10, 23, 23, 59), new Date(2026, 10, 24, 0, 1))).toBe('yesterday')
  })
})

describe('axisLabel', () => {
  it('tells days apart by their dates, and times within a day by the clock', () => {
    const at = (...time: [number, number, number]) => new Date(2026, 10, 26, ...time).getTime()
    expect(axisLabel(at(9, 30, 0), 86_400_000, now)).toBe('26 Nov')
    expect(axisLabel(at(9, 30, 0), 600_000)).toBe('09:30')
    expect(axisLabel(at(0, 0, 0), 3_600_000)).toBe('26 Nov')
    expect(axisLabel(at(9, 30, 5), 1000)).toBe('09:30:05')
  })
})
