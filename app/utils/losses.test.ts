import { describe, expect, it, vi } from 'vitest'
import type { Loss, LossWay } from '~~/server/views'
import { betterWay, whenLost, wayInWords, withoutAsSentence, withoutInWords } from './losses'
import { clockOf, dayOf, secondsOf, whenOf } from './when'

// What the application imports by itself.
vi.stubGlobal('clockOf', clockOf)
vi.stubGlobal('dayOf', dayOf)
vi.stubGlobal('secondsOf', secondsOf)
vi.stubGlobal('whenOf', whenOf)

const vessel = { slug: 'bookings', name: 'Bookings' }
const point: LossWay = {
  kind: 'point',
  vessel,
  ref: 'a-point',
  at: '2026-11-28T12:00:00Z',
  without: '12 changes of the 2 h before it',
  to: '/a',
}
const moment: LossWay = { kind: 'moment', vessel, ref: 'bookings~p0-1~db', at: '2026-11-28T14:00:00Z', without: null, to: '/b' }
const loss = { paths: ['db/bookings/sales/leg'], ways: [moment, point] } as Loss

describe('a way back', () => {
  it('says what it is and what it would not bring', () => {
    expect([wayInWords(moment), withoutInWords(moment)]).toEqual(['Restore from just before it…', 'loses nothing'])
    expect(wayInWords(point)).toMatch(/^Restore from the point of .*, Bookings…$/)
    expect(withoutInWords(point)).toBe('loses 12 changes of the 2 h before it')
    expect(withoutInWords({ ...moment, kind: 'undo' })).toBe('keeps what was changed since')
    expect(withoutInWords({ ...moment, kind: 'undo', without: 'without the rest' })).toBe('keeps what was changed since, without the rest')
  })
  it('is told as a sentence, in which names stay as they are', () => {
    expect(withoutAsSentence(moment)).toBe('Loses nothing.')
    expect(withoutAsSentence(point)).toBe('Loses 12 changes of the 2 h before it.')
    expect(withoutAsSentence({ ...moment, without: 'booking_leg: its comments may be missing.' })).toBe(
      'booking_leg: its comments may be missing.',
    )
  })
  it('is better than an older state of what is picked, and of nothing else', () => {
    const older = { id: 'a-point', at: point.at }
    expect(betterWay([loss], 'bookings', loss.paths, older)).toBe(moment)
    expect(betterWay([loss], 'bookings', ['db/bookings/sales/port'], older)).toBeNull()
    expect(betterWay([loss], 'crew', loss.paths, older)).toBeNull()
    expect(betterWay([loss], 'bookings', loss.paths, { id: moment.ref, at: moment.at })).toBeNull()
  })
})

describe('when something was lost', () => {
  it('is a moment, or a stretch where only looking told of it', () => {
    expect(whenLost({ at: '2026-11-28T14:00:07Z', after: null })).not.toContain('between')
    expect(whenLost({ at: '2026-11-28T14:00:07Z', after: '2026-11-28T13:59:37Z' })).toMatch(/between \d\d:\d\d:37 and \d\d:\d\d:07$/)
  })
})
