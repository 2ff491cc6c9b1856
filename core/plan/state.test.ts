import { describe, expect, it } from 'vitest'
import { estimateRestore, standingOf, type StandingFacts } from './state'

const HOUR = 3_600_000
const now = new Date('2026-11-24T10:00:00Z')
const facts = (over: Partial<StandingFacts>): StandingFacts => ({
  now,
  pause: null,
  promises: { couldLose: 24 * HOUR, backWithin: HOUR },
  newest: new Date(now.getTime() - HOUR),
  backWithin: 60_000,
  missing: 0,
  onePlace: 0,
  damaged: { points: 0, newest: false },
  lastFailure: null,
  ...over,
})
const ago = (hours: number) => new Date(now.getTime() - hours * HOUR)

describe('standingOf', () => {
  it('is whole while every promise is kept, and says so', () => {
    expect(standingOf(facts({}))).toEqual({ state: 'whole', reason: 'Every promise kept.', couldLose: HOUR, backWithin: 60_000 })
    expect(standingOf(facts({ promises: { couldLose: null, backWithin: null } })).reason).toContain('Nothing is promised')
  })
  it('is broken without a point, with the failure as its reason, or when more could be lost than promised', () => {
    expect(standingOf(facts({ newest: null }))).toMatchObject({ state: 'broken', couldLose: null })
    expect(standingOf(facts({ newest: null, lastFailure: 'The password was refused.' })).reason).toBe('The password was refused.')
    expect(standingOf(facts({ newest: ago(25) })).reason).toBe('Nothing newer than 25 h, and the promise is 24 h.')
  })
  it('is not whole when content of its points can’t be read, and broken when that is the newest one’s', () => {
    expect(standingOf(facts({ damaged: { points: 2, newest: false } }))).toMatchObject({
      state: 'at risk',
      reason: expect.stringMatching(/^2 points can’t come back whole/),
    })
    expect(standingOf(facts({ damaged: { points: 1, newest: true } }))).toMatchObject({
      state: 'broken',
      reason: expect.stringMatching(/^1 point can’t come back whole/),
    })
  })

  it('is at risk when a promise is', () => {
    expect(standingOf(facts({ newest: ago(20) })).reason).toBe('A backup is due within 4 h.')
    expect(standingOf(facts({ backWithin: 2 * HOUR })).state).toBe('at risk')
    expect(standingOf(facts({ onePlace: 1 }))).toMatchObject({
      state: 'at risk',
      reason: 'The data of 1 volume is only at its source.',
    })
    expect(standingOf(facts({ missing: 2 })).reason).toBe('2 things could not be captured last time.')
    expect(standingOf(facts({ lastFailure: 'The last backup failed.' })).state).toBe('at risk')
  })
  it('is paused on purpose, whatever else', () => {
    const pause = { since: ago(2).toISOString(), until: null, reason: 'The server moves.', by: 'a person' }
    expect(standingOf(facts({ pause, newest: null }))).toMatchObject({
      state: 'paused',
      reason: 'Paused for 2 h by a person: The server moves.',
    })
    const ending = { ...pause, until: ago(-3).toISOString() }
    expect(standingOf(facts({ pause: ending, newest: null })).reason).toContain('It goes on in 3 h.')
  })
  it('lets time only make a state worse', () => {
    const order = ['whole', 'at risk', 'broken']
    let worst = 0
    for (let hours = 0; hours < 40; hours++) {
      const rank = order.indexOf(standingOf(facts({ newest: ago(hours) })).state)
      expect(rank).toBeGreaterThanOrEqual(worst)
      worst = rank
    }
    expect(worst).toBe(2)
  })
})

describe('estimateRestore', () => {
  it('uses the measured rate where there is one', () => {
    expect(estimateRestore(100e6, 50e6)).toBe(3500)
    expect(estimateRestore(100e6, null)).toBe(5500)
  })
})
