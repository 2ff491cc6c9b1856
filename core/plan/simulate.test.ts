import { describe, expect, it } from 'vitest'
import type { PlanLine, Schedule } from './schedule'
import { defaultRetention, type Retention } from './retention'
import { pointsAt, simulate, type Simulated, type Sizes } from './simulate'

const DAY = 86_400_000
const GB = 1e9
const FROM = Date.parse('2026-11-01T00:00:00Z')
const nightly: PlanLine = {
  id: 'a',
  name: 'nightly',
  times: { kind: 'days', at: ['02:00'], on: { of: 'every day' } },
  makes: { kind: 'cycle', points: 7, first: 'full', rest: 'differential' },
}
const sizes: Sizes = {
  ...{
    fullBytes: 10 * GB,
    plainBytes: 30 * GB,
    changedPerDay: GB,
    differentialPerDay: GB / 2,
    incrementalPerDay: GB / 4,
    logPerDay: GB / 10,
  },
  ...{ restoredPerSecond: 30e6, assumed: [] },
}
const retention: Retention = { ...defaultRetention(), rules: [{ kind: 'last', points: 3 }], atLeast: 1, logHours: 24 }
const plan = (lines: PlanLine[], more: Partial<Simulated> = {}): Simulated => {
  const schedule: Schedule = { zone: 'UTC', from: new Date(FROM).toISOString(), lines, meanwhile: 'wait' }
  return { schedule, retention, sizes, price: null, logSeconds: null, ...more }
}
const counts = (of: ReturnType<typeof simulate>, day: number) => of.days[day]!.points

describe('a plan over days', () => {
  it('makes what its cycle says, and keeps what the rules and what builds on it need', () => {
    const simulation = simulate(plan([nightly]), FROM, 30)
    expect(simulation.points.slice(0, 4).map(({ kind, parent }) => [kind, parent])).toEqual([
      ['full', null],
      ['full', null],
      ['differential', 1],
      ['differential', 1],
    ])
    // Three points, and the full that they build on.
    expect(counts(simulation, 4)).toEqual({ full: 1, differential: 3 })
    // On the eighth day the next full is made; of the last cycle two are left, with their full.
    expect(counts(simulation, 7)).toEqual({ full: 2, differential: 2 })
    expect(pointsAt(simulation, FROM + 5 * DAY).map(({ at }) => Math.round((at - FROM) / DAY))).toEqual([0, 2, 3, 4])
  })

  it('reckons what that takes, as it was measured', () => {
    const of = (lines: PlanLine[], more: Partial<Simulated> = {}, day = 29) => simulate(plan(lines, more), FROM, 30).days[day]!
    const fulls: PlanLine = { ...nightly, makes: { kind: 'each', what: 'full' } }
    // Three fulls, a day apart: the whole of one, and a day of changes for each other.
    expect(of([fulls]).storedBytes / GB).toBeCloseTo(12)
    // A full, and differentials of one, two and three days.
    expect(of([nightly], {}, 3).storedBytes / GB).toBeCloseTo(10 + 0.5 + 1 + 1.5)
    expect(of([fulls], { logSeconds: 10 }).storedBytes / GB).toBeCloseTo(12.1)
    expect(of([fulls], { price: { perGbMonth: 3, perGbRead: 0 } }).cost * 30.4375).toBeCloseTo(36)
    expect(of([fulls], { retention: null }).storedBytes / GB).toBeCloseTo(10 + 29 + 2 / 24)
  })

  it('tells what could be lost, and how long everything would take to come back, with its chain', () => {
    const chained: PlanLine = { ...nightly, makes: { kind: 'cycle', points: 7, first: 'full', rest: 'incremental' } }
    const day = (lines: PlanLine[], n: number, more: Partial<Simulated> = {}) => simulate(plan(lines, more), FROM, 30).days[n]!
    expect(day([nightly], 10).worstLossMs).toBe(DAY)
    expect(day([nightly], 10, { logSeconds: 10 }).worstLossMs).toBe(10_000)
    const twice = { ...nightly, times: { kind: 'days' as const, at: ['02:00', '14:00'], on: { of: 'every day' as const } } }
    expect(day([twice], 10).worstLossMs).toBe(DAY / 2)
    // 30 GB at 30 MB a second, and what six incrementals of a quarter of a gigabyte are in plain bytes.
    expect(day([nightly], 7).worstBackMs / 1000).toBeCloseTo(1000)
    expect(day([chained], 6).worstBackMs / 1000).toBeCloseTo(1000 + (6 * 0.25 * 3 * GB) / 30e6)
  })
})
