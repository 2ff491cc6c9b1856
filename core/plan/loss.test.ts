import { describe, expect, it } from 'vitest'
import { longestBetween } from './loss'
import type { PlanLine, Schedule, Times } from './schedule'

const HOUR = 3_600_000
const now = Date.parse('2026-11-29T15:00:00Z')
const line = (id: string, times: Times, minutes?: number): PlanLine => ({
  id,
  name: id,
  times,
  makes: { kind: 'each', what: 'full' },
  ...(minutes ? { window: { minutes, spread: true, close: 'finish' } } : {}),
})
const plan = (zone: string, ...lines: PlanLine[]): Schedule => ({ zone, from: '2026-01-01T00:00:00Z', lines, meanwhile: 'wait' })
const nightly: Times = { kind: 'days', at: ['02:00'], on: { of: 'every day' } }
const workdays: Times = { kind: 'days', at: ['02:00'], on: { of: 'week', days: [1, 2, 3, 4, 5] } }

describe('what could be lost between the points of a plan', () => {
  it('is the longest time between two, over nights, weekends and changes of the clock', () => {
    expect(longestBetween(plan('UTC', line('a', nightly)), now)).toBe(24 * HOUR)
    expect(longestBetween(plan('Europe/Berlin', line('a', nightly)), now)).toBe(25 * HOUR)
    expect(longestBetween(plan('UTC', line('a', workdays)), now)).toBe(72 * HOUR)
    expect(longestBetween(plan('UTC', line('a', workdays), line('b', { kind: 'cron', expression: '0 14 * * 6' })), now)).toBe(36 * HOUR)
  })

  it('counts the window in which the later one may begin', () => {
    expect(longestBetween(plan('UTC', line('a', nightly, 120)), now)).toBe(26 * HOUR)
  })

  it('is said of a plan with very many times too, and not of one with none', () => {
    const often = line('a', { kind: 'every', count: 1, unit: 'minutes' })
    expect(longestBetween(plan('UTC', often, line('b', nightly)), now)).toBe(60_000)
    expect(longestBetween(plan('UTC', line('a', { kind: 'cron', expression: '0 0 29 2 *' })), now)).toBeNull()
  })
})
