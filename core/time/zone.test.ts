import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { fromAbsolute, parseZonedDateTime } from '@internationalized/date'
import { isZone, momentOfWall, offsetOf, wallOf } from './zone'

const ZONES = ['Europe/Berlin', 'America/New_York', 'Australia/Lord_Howe', 'Asia/Kathmandu', 'Africa/Casablanca', 'Pacific/Apia', 'UTC']
const zone = fc.constantFrom(...ZONES)
const moment = fc.integer({ min: Date.UTC(2005, 0, 1), max: Date.UTC(2040, 0, 1) })
const at = (text: string) => Date.parse(text)

describe('the clock of a zone', () => {
  it('shows what the calendar says, at any moment', () => {
    fc.assert(
      fc.property(zone, moment, (zone, ms) => {
        expect(offsetOf(zone, ms)).toBe(fromAbsolute(ms, zone).offset)
      }),
      { numRuns: 3000 },
    )
  })

  it('shows every time that it has at the first moment that does, and what it leaves out as the next', () => {
    fc.assert(
      fc.property(zone, moment, (zone, ms) => {
        const wall = Math.floor(wallOf(zone, ms) / 60_000) * 60_000
        const found = momentOfWall(zone, wall)
        expect(wallOf(zone, found)).toBe(wall)
        expect(found).toBeLessThanOrEqual(ms)
        // No earlier moment shows it.
        expect(wallOf(zone, found - 3_600_000)).not.toBe(wall)
        expect(wallOf(zone, found - 1_800_000)).not.toBe(wall)
      }),
      { numRuns: 3000 },
    )
  })

  it('goes over from winter to summer and back', () => {
    const wall = (text: string) => Date.parse(`${text}Z`)
    expect(momentOfWall('Europe/Berlin', wall('2027-03-28T02:30'))).toBe(at('2027-03-28T01:00Z'))
    expect(momentOfWall('Europe/Berlin', wall('2027-03-28T03:00'))).toBe(at('2027-03-28T01:00Z'))
    expect(momentOfWall('Europe/Berlin', wall('2027-10-31T02:30'))).toBe(at('2027-10-31T00:30Z'))
    expect(momentOfWall('Europe/Berlin', wall('2027-10-31T03:00'))).toBe(at('2027-10-31T02:00Z'))
    // Half an hour only.
    expect(momentOfWall('Australia/Lord_Howe', wall('2027-10-03T02:10'))).toBe(at('2027-10-02T15:30Z'))
    // A day that was never there.
    expect(momentOfWall('Pacific/Apia', wall('2011-12-30T12:00'))).toBe(
      parseZonedDateTime('2011-12-31T00:00[Pacific/Apia]').toDate().getTime(),
    )
  })

  it('is one that is known', () => {
    expect(['Europe/Rome', 'UTC', 'Mars/Olympus', ''].map(isZone)).toEqual([true, true, false, false])
  })
})
