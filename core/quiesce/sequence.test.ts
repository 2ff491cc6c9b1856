import { describe, expect, it } from 'vitest'
import fc from 'fast-check'
import { membersHeld, moved, quiesceTroubles, tidied, turnsOf, type HoldStep } from './sequence'

const step = (name: string, turn: number, more: Partial<HoldStep> = {}): HoldStep => ({
  id: name,
  name,
  member: 'pier/boarding',
  turn,
  act: { kind: 'exec', selector: 'app=manifest', container: '', pods: 'one', active: '', command: ['manifestctl', 'hold'] },
  limitMs: 1000,
  onFailure: 'stop',
  release: { kind: 'exec', selector: 'app=manifest', container: '', pods: 'one', active: '', command: ['manifestctl', 'release'] },
  ...more,
})
const troubles = (...steps: HoldStep[]) => quiesceTroubles({ steps, budgetMs: 5000 })

describe('a quiesce sequence', () => {
  it('is fine with steps that are named, limited and released, whose values come from before', () => {
    const use = step('send', 1, {
      act: { kind: 'http', method: 'POST', url: 'http://gates.example/{freeze.token}', body: '' },
      release: { kind: 'http', method: 'POST', url: 'http://gates.example/free', body: '{send.id}' },
    })
    expect(troubles(step('freeze', 0), use)).toEqual([])
    expect(troubles(step('sync', 0, { prepares: true, release: null }))).toEqual([])
  })
  it.each([
    [[step('a', 0), step('a', 1)], 'Two steps are called “a”.'],
    [[step('', 0)], 'its name must begin with a letter'],
    [[step('a', 0, { release: null })], 'nothing says what releases it'],
    [[step('a', 0, { prepares: true })], 'it only prepares, and has something to release'],
    [[step('a', 0, { member: 'pier' })], 'it belongs to no member'],
    [[step('a', 0, { limitMs: 5 })], 'its limit must lie between'],
    [[step('a', 0, { act: { kind: 'sql', statement: ' ' } })], 'it has no statement'],
    [[step('a', 0, { act: { kind: 'program', program: '../sh', arguments: [] } })], 'a program is named without its folder'],
    [[step('a', 0, { act: { kind: 'program', program: '..', arguments: [] } })], 'a program is named without its folder'],
    [[step('a', 0, { act: { kind: 'http', method: 'GET', url: 'file:///etc/passwd', body: '' } })], 'must begin with http://'],
    [[step('a', 0, { act: { ...step('x', 0).act, selector: 'app in (' } as HoldStep['act'] })], 'is not a requirement'],
    [[step('a', 0, { act: { ...step('x', 0).act, pods: 'passive' } as HoldStep['act'] })], 'which pods are the active ones'],
    [[step('a', 0, { act: { kind: 'sql', statement: 'select {b.x}' } }), step('b', 0)], 'it uses a value of “b”, and no step before it'],
  ])('tells what is wrong with %j', (steps, words) => {
    expect(troubles(...steps).join(' ')).toContain(words)
  })
  it('has a budget', () => {
    expect(quiesceTroubles({ steps: [], budgetMs: 1 })).toEqual(['The budget of a hold must lie between 0.5 s and an hour.'])
  })
  it('has turns in their order, and members', () => {
    const steps = [step('c', 7), step('a', 2), step('b', 2, { member: 'db/bookings' })]
    expect(turnsOf(steps).map((turn) => turn.map(({ name }) => name))).toEqual([['a', 'b'], ['c']])
    expect(membersHeld({ steps, budgetMs: 1000 })).toEqual(['db/bookings', 'pier/boarding'])
  })
})

describe('moving a step', () => {
  const steps = tidied([step('a', 0), step('b', 1), step('c', 2)])
  const order = (all: HoldStep[]) => turnsOf(all).map((turn) => turn.map(({ name }) => name).sort())

  it('puts it together with others, or by itself between them', () => {
    expect(order(moved(steps, 'c', 0))).toEqual([['a', 'c'], ['b']])
    expect(order(moved(steps, 'c', 0, true))).toEqual([['c'], ['a'], ['b']])
    expect(order(moved(steps, 'a', 3, true))).toEqual([['b'], ['c'], ['a']])
    expect(order(moved(steps, 'a', 2))).toEqual([['b'], ['a', 'c']])
  })

  it('keeps every step, and leaves no turn empty', () => {
    const many = fc.array(fc.nat(6), { minLength: 1, maxLength: 12 }).map((turns) => tidied(turns.map((turn, i) => step(`s${i}`, turn))))
    fc.assert(
      fc.property(many, fc.nat(11), fc.nat(7), fc.boolean(), (all, which, to, between) => {
        const after = moved(all, `s${which % all.length}`, to, between)
        expect(after.map(({ id }) => id).sort()).toEqual(all.map(({ id }) => id).sort())
        expect([...new Set(after.map(({ turn }) => turn))].sort((a, b) => a - b)).toEqual(turnsOf(after).map((_, i) => i))
      }),
    )
  })
})
