import { describe, expect, it } from 'vitest'
import { isDayFirst, readTime } from './read-time'

// A Tuesday, in the zone of whoever runs this.
const now = new Date(2026, 10, 24, 10, 26, 14)
const at = (day: number, hour: number, minute = 0, second = 0) => new Date(2026, 10, day, hour, minute, second)
const read = (text: string, from = now, locale = 'en-GB') => readTime(text, from, locale).at

describe('readTime', () => {
  it('understands how people say when', () => {
    const cases: [string, Date][] = [
      ['9:41', at(24, 9, 41)],
      [' today 09:41:07 ', at(24, 9, 41, 7)],
      ['yesterday 9:41:07', at(23, 9, 41, 7)],
      ['yesterday at 9:41 pm', at(23, 21, 41)],
      ['Sunday 13:20', at(22, 13, 20)],
      ['tuesday 8:00', at(24, 8)],
      ['last tuesday 8:00', at(17, 8)],
      ['10 minutes ago', new Date(now.getTime() - 600_000)],
      ['an hour ago', new Date(now.getTime() - 3_600_000)],
      ['3 Nov 04:10', at(3, 4, 10)],
      ['Nov 3, 2025 04:10', new Date(2025, 10, 3, 4, 10)],
      ['24.11.2026 09:41', at(24, 9, 41)],
      ['4.1.2026 09:41', new Date(2026, 0, 4, 9, 41)],
      ['2026-11-24 09:41:07', at(24, 9, 41, 7)],
      ['2026-11-24T09:41:07Z', new Date('2026-11-24T09:41:07Z')],
      ['2026-11-24 09:41:07+02:00', new Date('2026-11-24T07:41:07Z')],
      ['09:41 UTC', new Date('2026-11-24T09:41:00Z')],
    ]
    for (const [text, expected] of cases) expect([text, read(text)]).toEqual([text, expected])
  })

  it('takes what is left open as the last one that has been', () => {
    expect(read('9:41 pm')).toEqual(at(23, 21, 41))
    expect(read('tuesday 11:00')).toEqual(at(17, 11))
    expect(read('wednesday 8:00')).toEqual(at(18, 8))
    expect(read('30 Dec 04:10', new Date(2026, 0, 2, 12))).toEqual(new Date(2025, 11, 30, 4, 10))
    expect(read('25 Nov 04:10')).toEqual(new Date(2025, 10, 25, 4, 10))
  })

  it('goes by the order of days and months that is usual where a person is, except with dots', () => {
    expect([isDayFirst('en-GB'), isDayFirst('en-US'), isDayFirst('de')]).toEqual([true, false, true])
    expect(read('03/04/2026 10:00')).toEqual(new Date(2026, 3, 3, 10))
    expect(read('03/04/2026 10:00', now, 'en-US')).toEqual(new Date(2026, 2, 4, 10))
    expect(read('03.04.2026 10:00', now, 'en-US')).toEqual(new Date(2026, 3, 3, 10))
  })

  it('does not guess at anything else, and tells why', () => {
    const cases: [string, RegExp][] = [
      ['', /no time that is understood/],
      ['10', /no time that is understood/],
      ['1764000000', /no time that is understood/],
      ['soon', /no time that is understood/],
      ['16/B2A41F08', /no time that is understood/],
      ['order 12 at 9:41', /no time that is understood/],
      ['9:41 or so', /no time that is understood/],
      ['30 Feb 04:10', /no time that is understood/],
      ['25:99', /no time that is understood/],
      ['32.1.2026 10:00', /no time that is understood/],
      ['yesterday', /at which time of the day/],
      ['monday', /at which time of the day/],
      ['2 days ago', /at which time of the day/],
      ['this morning', /at which time of the day/],
      ['09:41 to 10:00', /two times/],
    ]
    for (const [text, why] of cases)
      expect([text, readTime(text, now, 'en-GB')]).toEqual([text, { at: null, trouble: expect.stringMatching(why) }])
  })
})
