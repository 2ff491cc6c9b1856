import { describe, expect, it } from 'vitest'
import { quietTroubles, quietUntil, type QuietTime } from './quiet'

// The 2nd of November 2026 is a Monday.
const at = (text: string) => Date.parse(`2026-${text}:00Z`)
const office: QuietTime = { zone: 'UTC', from: '08:00', to: '18:00', days: [1, 2, 3, 4, 5] }
const night: QuietTime = { zone: 'UTC', from: '22:00', to: '06:00', days: [5] }
const until = (times: QuietTime[], text: string) => {
  const end = quietUntil(times, at(text))
  return end === null ? null : new Date(end).toISOString().slice(5, 16)
}

describe('when nothing may begin at a source', () => {
  it('is from its beginning on its days until its end, over midnight too', () => {
    expect(until([office], '11-02T07:59')).toBeNull()
    expect(until([office], '11-02T08:00')).toBe('11-02T18:00')
    expect(until([office], '11-02T18:00')).toBeNull()
    expect(until([office], '11-01T12:00')).toBeNull()
    expect(until([night], '11-06T23:00')).toBe('11-07T06:00')
    expect(until([night], '11-07T05:59')).toBe('11-07T06:00')
    expect(until([night], '11-07T23:00')).toBeNull()
  })

  it('goes on where one ends in the midst of another, and long where it never ends', () => {
    const early: QuietTime = { ...office, from: '06:00', to: '09:00' }
    expect(until([office, early], '11-02T06:30')).toBe('11-02T18:00')
    expect(until([], '11-02T06:30')).toBeNull()
    const always: QuietTime = { ...office, from: '00:00', to: '00:00', days: [1, 2, 3, 4, 5, 6, 7] }
    expect(quietUntil([always], at('11-02T06:30'))! - at('11-02T06:30')).toBeGreaterThan(365 * 86_400_000)
  })

  it('is of the clock of its zone, also where that is changed', () => {
    const berlin: QuietTime = { ...office, zone: 'Europe/Berlin', days: [7] }
    // On this Sunday the clock goes back, and 08:00 is 07:00 of UTC.
    expect(until([berlin], '10-25T06:59')).toBeNull()
    expect(until([berlin], '10-25T07:00')).toBe('10-25T17:00')
  })

  it('is refused where it says nothing', () => {
    expect(quietTroubles([office, night])).toEqual([])
    expect(quietTroubles([{ zone: 'x', from: '8', to: '18:00', days: [] }])).toHaveLength(3)
  })
})
