import { describe, expect, it } from 'vitest'
import { axisLabel, dayOf, readTime, whenOf } from './when'

// A Tuesday, in the zone of whoever runs this.
const now = new Date(2026, 10, 24, 10, 26, 14)
const at = (day: number, hour: number, minute = 0, second = 0) => new Date(2026, 10, day, hour, minute, second)

describe('readTime', () => {
  it('understands how people say when', () => {
    const cases: [string, Date][] = [
      ['9:41', at(24, 9, 41)],
      ['today 09:41:07', at(24, 9, 41, 7)],
      ['yesterday 9:41:07', at(23, 9, 41, 7)],
      ['Sunday 13:20', at(22, 13, 20)],
      ['tuesday 8:00', at(17, 8)],
      ['3 Nov 04:10', at(3, 4, 10)],
    ]
    for (const [text, expected] of cases) expect([text, readTime(text, now)]).toEqual([text, expected])
    expect(readTime('2026-11-24T09:41:07Z', now)).toEqual(new Date('2026-11-24T09:41:07Z'))
  })

  it('does not guess at anything else', () => {
    for (const text of ['', 'soon', 'yesterday', 'monday', '16/B2A41F08']) expect([text, readTime(text, now)]).toEqual([text, undefined])
  })
})

describe('dayOf', () => {
  it('names the days that are near, and dates the others', () => {
    const days = [24, 23, 25, 20, 18, 17, 3].map((day) => dayOf(at(day, 12), now))
    expect(days).toEqual(['today', 'yesterday', 'tomorrow', 'Friday', 'Wednesday', '17 Nov', '3 Nov'])
    expect(whenOf(at(23, 4, 10), now)).toBe('yesterday 04:10')
  })

  it('goes by the calendar and not by hours', () => {
    expect(dayOf(new Date(2026, 10, 23, 23, 59), new Date(2026, 10, 24, 0, 1))).toBe('yesterday')
  })
})

describe('axisLabel', () => {
  it('tells days apart by their dates, and times within a day by the clock', () => {
    const at = (...time: [number, number, number]) => new Date(2026, 10, 26, ...time).getTime()
    expect(axisLabel(at(9, 30, 0), 86_400_000)).toBe('26 Nov')
    expect(axisLabel(at(9, 30, 0), 600_000)).toBe('09:30')
    expect(axisLabel(at(0, 0, 0), 3_600_000)).toBe('26 Nov')
    expect(axisLabel(at(9, 30, 5), 1000)).toBe('09:30:05')
  })
})
