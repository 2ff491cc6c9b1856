import { describe, expect, it } from 'vitest'
import { lanesOf } from './lanes'
import type { HoldStep } from './sequence'

const step = (name: string, turn: number, member = 'pier/boarding'): HoldStep => ({
  id: name,
  name,
  member,
  turn,
  act: { kind: 'sql', statement: 'select 1' },
  limitMs: 1000,
  onFailure: 'stop',
  release: { kind: 'sql', statement: 'select 1' },
})

describe('lanes', () => {
  it('have a lane for each member, also for those that nothing holds', () => {
    const { members, all, total } = lanesOf({ steps: [], budgetMs: 1000 }, [], ['db/bookings', 'pier/boarding'])
    expect([members.map(({ member }) => member), all, total]).toEqual([['db/bookings', 'pier/boarding'], null, 0])
  })
  it('assume what was not measured, and keep what a step took when it has another turn', () => {
    const measured = [
      { name: 'a', member: 'pier/boarding', begun: 0, held: 900, released: 2000 },
      { name: 'b', member: 'pier/boarding', begun: 900, held: 1000, released: 1900 },
      { name: 'failed', member: 'pier/boarding', begun: 0, held: null, released: 10 },
    ]
    const { members, all } = lanesOf({ steps: [step('b', 0), step('a', 1), step('failed', 1)], budgetMs: 5000 }, measured, [])
    expect(members[0]!.bars.map(({ step: { name }, begun, held, measured: own }) => [name, begun, held, own])).toEqual([
      ['b', 0, 100, true],
      ['a', 100, 1000, true],
      ['failed', 100, 300, false],
    ])
    expect(all!.from).toBe(1000)
  })
  it('hold nothing by what only prepares, whose end is not that of the hold', () => {
    const prepares: HoldStep = { ...step('sync', 0), release: null, prepares: true }
    const measured = [
      { name: 'sync', member: 'pier/boarding', begun: 0, held: 500, released: 510 },
      { name: 'a', member: 'pier/boarding', begun: 510, held: 700, released: 1700 },
    ]
    const { members, all } = lanesOf({ steps: [prepares, step('a', 1)], budgetMs: 5000 }, measured, [])
    expect(members[0]!.bars[0]).toMatchObject({ begun: 0, held: 500, released: 500, measured: true })
    expect(all!.to - all!.from).toBe(1000)
    expect(lanesOf({ steps: [prepares], budgetMs: 5000 }, measured, []).all).toBeNull()
  })
  it('release the last turn first, after the capture', () => {
    const captured = [{ name: 'of then', member: 'pier/boarding', begun: 0, held: 300, released: 1000 }]
    const { members, all, total } = lanesOf({ steps: [step('a', 0), step('b', 1)], budgetMs: 5000 }, captured, [])
    const [a, b] = members[0]!.bars
    expect(all!.to - all!.from).toBe(700)
    expect(b!.released).toBeLessThan(a!.released)
    expect(total).toBe(a!.released)
  })
})
