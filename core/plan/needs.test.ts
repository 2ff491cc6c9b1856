import { describe, expect, it } from 'vitest'
import { Chains, type Artifact, type ArtifactKind } from '../chain/chain'
import { staysOf } from '../chain/stays'
import type { Keeping } from './keep'
import { withNeeds } from './needs'

const DAY = 86_400_000
const at = (day: number) => new Date(day * DAY)
const mark = (id: string, kind: ArtifactKind, day: number, parent: string | null = null): Artifact => ({
  ...{ id, member: 'a', kind, parent, era: '1', rows: 1, bytes: 1, stored: 1 },
  ...{ from: `0/${day}`, to: `0/${day}`, fromAt: at(day), at: at(day) },
})
const marks = [mark('f1', 'full', 1), mark('d2', 'differential', 2, 'f1'), mark('d3', 'differential', 3, 'f1'), mark('f4', 'full', 4)]
const points = marks.map(({ id, at }) => ({ id: `p-${id}`, at, artifacts: [id] }))
const rule: Keeping['by'] = { kind: 'rule', rule: { kind: 'last', points: 1 } }
const until = (day: number | null): Keeping => ({ by: rule, until: day === null ? null : day * DAY })
const of = (keeping: [string, Keeping][], from = 99, log: { from: number; forMs: number } | null = null) => {
  const stays = staysOf({ marks, points }, new Chains(marks), new Set(keeping.map(([id]) => id)), at(from))
  const found = withNeeds(new Map(keeping), stays.points, { marks, points }, log)
  return Object.fromEntries([...found].map(([id, { by, until }]) => [id, [by.kind, typeof until === 'number' ? until / DAY : until]]))
}

describe('how long a point stays', () => {
  it('is as long as what builds on it does', () => {
    expect(
      of([
        ['p-d3', until(9)],
        ['p-f4', until(20)],
      ]),
    ).toEqual({ 'p-d3': ['rule', 9], 'p-f4': ['rule', 20], 'p-f1': ['needed', 9] })
    expect(
      of([
        ['p-f1', until(5)],
        ['p-d2', until(30)],
      ]),
    ).toMatchObject({ 'p-f1': ['needed', 30], 'p-d2': ['rule', 30] })
    expect(
      of([
        ['p-f1', until(50)],
        ['p-d2', until(30)],
      ]),
    ).toMatchObject({ 'p-f1': ['rule', 50] })
    expect(of([['p-d2', until(null)]])).toMatchObject({ 'p-f1': ['needed', null] })
  })

  it('is as long as the log of its time does, where that is longer', () => {
    const log = { from: 3 * DAY, forMs: 10 * DAY }
    const all = points.map(({ id }): [string, Keeping] => [id, until(5)])
    expect(of(all, 3, log)).toEqual({ 'p-f4': ['log', 14], 'p-d3': ['log', 13], 'p-d2': ['rule', 5], 'p-f1': ['needed', 13] })
  })
})
