import { afterEach, describe, expect, it } from 'vitest'
import { readTime } from './read-time'
import { axisLabel, clockOf, dateOf, dayOf, fullOf } from './when'
import { offsetAt, ownZone, startOfDay, zoneInUse } from './zone'

afterEach(() => void (zoneInUse.value = ownZone()))

describe('the time zone in use', () => {
  const at = new Date('2026-11-27T23:30:00Z')

  it('decides which day and which time a moment is told as', () => {
    zoneInUse.value = 'UTC'
    expect([clockOf(at), dateOf(at, at), dayOf(at, new Date('2026-11-28T00:10:00Z'))]).toEqual(['23:30', '27 Nov', 'yesterday'])
    zoneInUse.value = 'Asia/Kolkata'
    expect([clockOf(at), dateOf(at, at), dayOf(at, new Date('2026-11-28T00:10:00Z'))]).toEqual(['05:00', '28 Nov', 'today'])
    expect(fullOf(at)).toContain('28 November 2026')
    expect(startOfDay(at).toISOString()).toBe('2026-11-27T18:30:00.000Z')
    expect(offsetAt(at)).toBe(5.5 * 3_600_000)
    expect(axisLabel(startOfDay(at).getTime(), 3_600_000, at)).toBe('28 Nov')
  })

  it('decides what a written time means, on days before its clocks were changed, too', () => {
    zoneInUse.value = 'America/New_York'
    const now = new Date('2026-11-28T12:00:00Z')
    expect(readTime('9:41', new Date('2026-11-28T18:00:00Z')).at?.toISOString()).toBe('2026-11-28T14:41:00.000Z')
    expect(readTime('2026-07-04 09:00', now).at?.toISOString()).toBe('2026-07-04T13:00:00.000Z')
    expect(readTime('2026-07-04T09:00:00Z', now).at?.toISOString()).toBe('2026-07-04T09:00:00.000Z')
    expect(readTime('10 minutes ago', now).at?.toISOString()).toBe('2026-11-28T11:50:00.000Z')
    // 23:30 of the day before, there; in UTC it has been already.
    expect(readTime('11:30 pm', new Date('2026-11-28T04:00:00Z')).at?.toISOString()).toBe('2026-11-27T04:30:00.000Z')
  })
})
