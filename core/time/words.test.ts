import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { agoInWords, bytesInWords, capital, countInWords, durationInWords, numberInWords, plural } from './words'

describe('bytesInWords', () => {
  it('has three figures at most, in decimal units', () => {
    expect([0, 999, 1000, 1049, 999_949, 999_950, 41_200_000_000].map(bytesInWords)).toEqual([
      '0 B',
      '999 B',
      '1 KB',
      '1 KB',
      '1 MB',
      '1 MB',
      '41.2 GB',
    ])
  })

  it('never says more than a thousand of a unit that has a larger one', () => {
    fc.assert(
      fc.property(fc.double({ min: 0, max: 9e15, noNaN: true }), (bytes) => {
        const [value, unit] = bytesInWords(Math.floor(bytes)).split(' ')
        expect(['B', 'KB', 'MB', 'GB', 'TB', 'PB']).toContain(unit)
        expect(Number(value)).toBeLessThan(1000)
      }),
    )
  })
})

describe('durationInWords', () => {
  it('uses the two largest units that say something', () => {
    const cases: [number, string][] = [
      [0, '0 ms'],
      [45, '45 ms'],
      [1400, '1.4 s'],
      [22_000, '22 s'],
      [60_000, '1 min'],
      [147_000, '2 min 27 s'],
      [22 * 60_000, '22 min'],
      [3_600_000, '1 h'],
      [4_200_000, '1 h 10 min'],
      [60 * 3_600_000, '60 h'],
      [9 * 86_400_000, '9 days'],
    ]
    for (const [ms, words] of cases) expect(durationInWords(ms)).toBe(words)
  })

  it('never rounds up to a whole of the next unit that it does not name', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 86_400_000 }), (ms) => {
        expect(durationInWords(ms)).not.toMatch(/\b60 (s|min)\b/)
      }),
    )
  })
})

describe('agoInWords', () => {
  it('looks both ways', () => {
    const now = new Date('2026-11-24T10:00:00Z')
    expect(agoInWords(new Date('2026-11-24T09:00:00Z'), now)).toBe('1 h ago')
    expect(agoInWords(new Date('2026-11-24T10:05:00Z'), now)).toBe('in 5 min')
    expect(agoInWords(now, now)).toBe('just now')
  })
})

describe('counts', () => {
  it('are words when small, and grouped when large', () => {
    expect([0, 1, 12, 13].map(numberInWords)).toEqual(['no', 'one', 'twelve', '13'])
    expect(countInWords(1_234_567)).toBe('1,234,567')
    expect([plural(1, 'row'), plural(2, 'row'), plural(0, 'box', 'boxes')]).toEqual(['1 row', '2 rows', '0 boxes'])
    expect(capital('six vessels')).toBe('Six vessels')
  })
})
