import { describe, expect, it } from 'vitest'
import { collisions, meetings, type ExpectedRun } from './collide'

const run = (vessel: string, at: number, forMs: number, ...sources: string[]): ExpectedRun => ({ vessel, at, forMs, sources })

describe('runs that are planned', () => {
  it('collide where runs of other vessels go on at the same source at the same time', () => {
    const met = collisions([
      run('c', 25, 10, 'db'),
      run('a', 0, 10, 'db', 'pier'),
      run('b', 5, 25, 'db'),
      run('a', 8, 3, 'db'),
      run('d', 6, 1, 'pier'),
      run('e', 6, 1, 'elsewhere'),
      run('f', 35, 5, 'db'),
    ])
    expect(met).toEqual([
      [{ source: 'db', vessels: ['b'] }],
      [
        { source: 'db', vessels: ['b'] },
        { source: 'pier', vessels: ['d'] },
      ],
      [{ source: 'db', vessels: ['a', 'c'] }],
      [{ source: 'db', vessels: ['b'] }],
      [{ source: 'pier', vessels: ['a'] }],
      [],
      // One that begins when another ends meets nobody.
      [],
    ])
  })

  it('are compared two by two in the end, whatever their order', () => {
    let seed = 7
    const random = (most: number) => (seed = (seed * 48271) % 2147483647) % most
    for (let round = 0; round < 200; round++) {
      const runs = Array.from({ length: 1 + random(9) }, () =>
        run('abcd'[random(4)]!, random(40), random(15), ...['x', 'y'].filter(() => random(2) === 1)),
      )
      const overlap = (one: ExpectedRun, two: ExpectedRun) =>
        one.vessel !== two.vessel && one.at < two.at + two.forMs && two.at < one.at + one.forMs
      const expected = runs.map((one) =>
        one.sources.flatMap((source) => {
          const vessels = new Set(runs.filter((two) => two.sources.includes(source) && overlap(one, two)).map(({ vessel }) => vessel))
          return vessels.size > 0 ? [{ source, vessels: [...vessels].sort() }] : []
        }),
      )
      const bySource = (meetings: { source: string }[]) => [...meetings].sort((a, b) => (a.source < b.source ? -1 : 1))
      // What takes no time at all meets nobody who begins with it.
      if (runs.every(({ forMs }) => forMs > 0)) expect(collisions(runs).map(bySource)).toEqual(expected)
    }
  })

  it('of one vessel tell for how long they meet others, and whom; what overlaps twice counts once', () => {
    const own = [run('a', 0, 10, 'db'), run('a', 100, 10, 'db')]
    const others = [run('b', 5, 3, 'db'), run('c', 6, 20, 'db'), run('a', 0, 10, 'db'), run('d', 0, 200, 'pier'), run('b', 110, 5, 'db')]
    expect(meetings(own, others)).toEqual({ forMs: 5, meets: [{ source: 'db', vessels: ['b', 'c'] }] })
    expect(meetings(own, [])).toEqual({ forMs: 0, meets: [] })
  })
})
