import { describe, expect, it } from 'vitest'
import type { Artifact, ArtifactKind } from './chain'
import { lostMoments, minus, withoutPoints } from './without'

const position = (n: number) => `0/${n.toString(16).toUpperCase()}`
const time = (n: number) => new Date(n * 1000)
const artifact = (id: string, kind: ArtifactKind, from: number, to: number, parent: string | null = null): Artifact => ({
  ...{ id, member: 'a', kind, parent, era: '1', rows: 1, bytes: 1, stored: 1 },
  ...{ from: position(from), to: position(to), fromAt: time(from), at: time(to) },
})
const marks = [
  artifact('f1', 'full', 1, 1),
  artifact('d1', 'differential', 1, 3, 'f1'),
  artifact('i1', 'incremental', 3, 5, 'd1'),
  artifact('f2', 'full', 7, 7),
]
const points = marks.map(({ id, at }) => ({ id: `p-${id}`, at, name: null, complete: true, artifacts: [id] }))
const whole = { marks, points, logs: [artifact('l', 'log', 1, 9)], caughtUp: [] }
const ranges = (of: { from: Date; to: Date }[]) => of.map(({ from, to }) => [from.getTime() / 1000, to.getTime() / 1000])

describe('without a point', () => {
  it('goes all that builds on it, and moments that are entered from it', () => {
    const without = withoutPoints(whole, ['p-f1'])
    expect(without.points.sort()).toEqual(['p-d1', 'p-f1', 'p-i1'])
    expect(without.artifacts.map(({ id }) => id)).toEqual(['f1', 'd1', 'i1'])
    expect(ranges(without.lost)).toEqual([[1, 7]])
  })

  it('goes it alone where nothing needs it, and every moment of an unbroken log stays', () => {
    expect(withoutPoints(whole, ['p-i1'])).toMatchObject({ points: ['p-i1'], lost: [] })
    expect(withoutPoints(whole, ['p-f2'])).toMatchObject({ points: ['p-f2'], lost: [] })
    expect(ranges(withoutPoints({ ...whole, logs: [artifact('l', 'log', 6, 9)] }, ['p-f2']).lost)).toEqual([[7, 9]])
  })

  it('goes what builds on any of several, once; without all of them nothing can be entered', () => {
    const without = withoutPoints(whole, ['p-d1', 'p-i1', 'p-f2'])
    expect([without.points.sort(), without.lost]).toEqual([['p-d1', 'p-f2', 'p-i1'], []])
    expect(ranges(withoutPoints(whole, ['p-f1', 'p-f2']).lost)).toEqual([[1, 9]])
  })
})

describe('without a stretch of log', () => {
  const logs = [artifact('l', 'log', 1, 9)]
  it('no moment after it can be entered until the next mark behind it', () => {
    const lost = (...left: Artifact[]) => ranges(lostMoments({ marks, logs, caughtUp: [] }, { marks, logs: left }))
    expect(lost(artifact('a', 'log', 1, 2), artifact('b', 'log', 4, 9))).toEqual([[2, 5]])
    expect(lost(artifact('a', 'log', 1, 7))).toEqual([[7, 9]])
    expect(lost(...logs)).toEqual([])
  })
})

describe('what of some stretches is in none of others', () => {
  const of = (...all: [number, number][]) => all.map(([from, to]) => ({ from: time(from), to: time(to) }))
  it('is what stands before, between and after them', () => {
    expect(ranges(minus(of([1, 9]), of([2, 3], [5, 6])))).toEqual([
      [1, 2],
      [3, 5],
      [6, 9],
    ])
    expect(minus(of([2, 3]), of([1, 4]))).toEqual([])
    expect(ranges(minus(of([1, 4]), of([1, 3])))).toEqual([[3, 4]])
  })
})
