import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { SequenceState } from '../content/manifest'
import { changedSequences, sequencesAt } from './sequences'

const state = (last: number, called = true, more: Partial<SequenceState> = {}): SequenceState => ({
  schema: 'public',
  name: 's',
  last: String(last),
  called,
  ownedBy: null,
  ...more,
})
const NAME = [{ schema: 'public', name: 's' }]
const reading = (at: number, ...sequences: SequenceState[]) => ({ position: `0/${at.toString(16)}`, sequences })
const at = (readings: ReturnType<typeof reading>[], position: number) => sequencesAt(readings, `0/${position.toString(16)}`, NAME)[0]

describe('a sequence at a position', () => {
  it('is as it was read next, and told to be ahead where it had moved', () => {
    const readings = [reading(10, state(5)), reading(20, state(9))]
    expect(at(readings, 15)).toEqual({ state: state(9), ahead: true, setBack: false })
    expect(at([reading(10, state(5)), reading(20, state(5))], 15)).toEqual({ state: state(5), ahead: false, setBack: false })
  })

  it('is the furthest that was read where it was set back', () => {
    expect(at([reading(10, state(100)), reading(20, state(1, false))], 15)).toMatchObject({ state: state(100), setBack: true })
    const down = { down: true }
    expect(at([reading(10, state(-100, true, down)), reading(20, state(-1, true, down))], 15)).toMatchObject({
      state: { last: '-100' },
      setBack: true,
    })
  })

  it('is known from one side alone, and not at all from none', () => {
    expect(at([reading(10, state(5))], 15)).toMatchObject({ state: state(5), ahead: false })
    expect(at([reading(20, state(5))], 15)).toMatchObject({ state: state(5), ahead: true })
    expect(at([], 15)).toBeUndefined()
  })

  it('is never behind what had been given, as long as it was only asked for numbers', () => {
    const steps = fc.array(fc.record({ more: fc.nat(5), read: fc.boolean() }), { minLength: 1, maxLength: 40 })
    fc.assert(
      fc.property(steps, fc.nat(39), (list, chosen) => {
        let given = 0
        const readings: ReturnType<typeof reading>[] = [reading(0, state(1, false))]
        let before = 0
        for (const [i, { more, read }] of list.entries()) {
          given += more
          if (i === Math.min(chosen, list.length - 1)) before = given
          if (read || i === list.length - 1) readings.push(reading(i * 10 + 5, given === 0 ? state(1, false) : state(given)))
        }
        const found = at(readings, Math.min(chosen, list.length - 1) * 10 + 1)!
        expect(found.state.called ? Number(found.state.last) : 0).toBeGreaterThanOrEqual(before)
      }),
    )
  })

  it('is read again only where it has moved', () => {
    expect(changedSequences([state(5)], [state(5)])).toEqual([])
    expect(changedSequences([state(5)], [state(6)])).toEqual([state(6)])
  })
})
