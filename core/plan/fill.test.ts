import { describe, expect, it } from 'vitest'
import { climbTo, logFullAt, measured, type Filled } from './fill'

const MB = 1e6
const climb = (seconds: number, bytesPerSecond: number, from = 0): Filled[] => {
  let all: Filled[] = []
  for (let s = 0; s <= seconds; s += 4) all = measured(all, from + s * 1000, s * bytesPerSecond)
  return all
}

describe('what fills up', () => {
  it('is full when its rate says so', () => {
    const found = climbTo(1000 * MB, climb(600, MB))!
    expect(found.bytesPerSecond).toBeCloseTo(MB)
    expect(found.forMs).toBe(600_000)
    expect(found.fullAt.getTime()).toBe(1_000_000)
  })
  it('is kept in few measurements, the newest always among them', () => {
    const all = climb(24 * 3600, MB)
    expect(all.length).toBeLessThanOrEqual(60)
    expect(all.at(-1)).toEqual([24 * 3_600_000, 24 * 3600 * MB])
  })
  it('says nothing of what was let go in between, does not grow, or was looked at for a moment only', () => {
    expect(climbTo(1000 * MB, measured(climb(600, MB), 604_000, 5 * MB))).toBeNull()
    expect(climbTo(1000 * MB, climb(600, 0))).toBeNull()
    expect(climbTo(1000 * MB, climb(60, MB))).toBeNull()
    expect(climbTo(1000 * MB, [])).toBeNull()
  })
  it('is the log of a source, by what is reached first', () => {
    expect(logFullAt(climb(600, MB), 300 * MB, 1000 * MB)).toMatchObject({ by: 'disk', at: new Date(900_000) })
    expect(logFullAt(climb(600, MB), 3000 * MB, 1000 * MB)).toMatchObject({ by: 'limit', at: new Date(1_000_000) })
    expect(logFullAt(climb(600, MB), null, 1000 * MB)).toMatchObject({ by: 'limit' })
    expect(logFullAt([], null, 1)).toBeNull()
  })
  it('is full now, where it is over the limit already', () => {
    expect(climbTo(10 * MB, climb(600, MB))!.fullAt.getTime()).toBe(600_000)
  })
})
