import { dueTimes } from '../core/plan/due'
import type { Retention } from '../core/plan/retention'
import type { PlanLine, Schedule } from '../core/plan/schedule'
import { isOver } from '../engine/catalog/runs'
import { perform } from '../engine/runs/runner'
import type { Scenario } from './history'

// How the vessels of the demo are backed up by themselves, and for how long. The scheduler and the pruning are the real
// ones; only the clock is the scenario's.

const HOUR = 3_600_000
const DAY = 24 * HOUR
const ZONE = 'Atlantic/Azores'

const NIGHTLY: PlanLine = {
  id: 'nightly',
  name: 'nightly',
  times: { kind: 'days', at: ['02:00'], on: { of: 'every day' } },
  makes: { kind: 'cycle', points: 7, first: 'full', rest: 'differential' },
  window: { minutes: 120, spread: false, close: 'finish' },
}
const AFTERNOONS: PlanLine = {
  id: 'afternoons',
  name: 'afternoons',
  times: { kind: 'days', at: ['14:10'], on: { of: 'week', days: [1, 2, 3, 4, 5] } },
  makes: { kind: 'each', what: 'incremental' },
}

const scheduleFrom = (at: Date, lines: PlanLine[]): Schedule => ({ zone: ZONE, from: at.toISOString(), lines, meanwhile: 'wait' })
export const planOfBookings = (at: Date) => scheduleFrom(at, [NIGHTLY, AFTERNOONS])
export const planOfCrew = (at: Date) => scheduleFrom(at, [NIGHTLY])

const BASE = { logHours: 72, byHandDays: 60, gone: { automaticDays: 90, byHandDays: 365 } }
export const KEPT_OF_BOOKINGS: Retention = {
  ...BASE,
  // What was dropped last Sunday can be entered just before.
  logHours: 192,
  rules: [
    { kind: 'all', count: 5, unit: 'days' },
    { kind: 'calendar', each: 'week', count: 8 },
    { kind: 'calendar', each: 'month', count: 12 },
  ],
  atLeast: 3,
}
export const KEPT_OF_CREW: Retention = {
  ...BASE,
  rules: [
    { kind: 'last', points: 7 },
    { kind: 'calendar', each: 'week', count: 4 },
  ],
  atLeast: 2,
}
export const PRUNED = { zone: ZONE, at: '04:30' }

/** Every moment at which something of the plans is due between two, or the store is pruned. */
export function dueBetween(from: Date, to: Date): Date[] {
  const schedule = { zone: ZONE, from: from.toISOString() }
  const times = [NIGHTLY, AFTERNOONS, { times: { kind: 'days' as const, at: [PRUNED.at], on: { of: 'every day' as const } } }]
  return times.flatMap((line) => {
    const found: Date[] = []
    for (const at of dueTimes(schedule, line, from.getTime())) {
      if (at > to.getTime()) break
      found.push(new Date(at + 1000))
    }
    return found
  })
}

/** What is due by now is begun, and waited for. */
export async function letPlansGo({ engine }: Pick<Scenario, 'engine'>): Promise<void> {
  await engine.lookAtPlans()
  const runs = await engine.db
    .selectFrom('run')
    .select('id')
    .where('state', 'in', ['waiting', 'running'])
    .where('started_by', '=', 'the plan')
    .orderBy('created_at')
    .execute()
  for (const { id } of runs) {
    // A worker may have it already.
    await perform(engine, id)
    while (!(await isOver(engine, id))) await new Promise((resolve) => setTimeout(resolve, 50))
  }
}

/** The weekend days of the last three weeks that are at least two weeks off: nothing of the crew is backed up then. */
export function pausedWeekend(now: Date): { from: Date; to: Date } {
  const from = new Date(now.getTime() - 17 * DAY)
  from.setHours(20, 0, 0, 0)
  while (from.getDay() !== 5) from.setDate(from.getDate() + 1)
  return { from, to: new Date(from.getTime() + 2.5 * DAY) }
}
