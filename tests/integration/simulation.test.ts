import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { sql } from 'kysely'
import { defaultRetention } from '../../core/plan/retention'
import type { Schedule } from '../../core/plan/schedule'
import { simulate } from '../../core/plan/simulate'
import { sizesOf } from '../../core/plan/sizes'
import { addRun } from '../../engine/catalog/runs'
import { lanesOf } from '../../engine/catalog/lifeline'
import { saveDefinition, vesselBySlug, type Vessel } from '../../engine/catalog/vessels'
import { Scheduler, type SchedulerContext } from '../../engine/jobs/scheduler'
import { measuredSizes } from '../../engine/retention/measured'
import { perform } from '../../engine/runs/runner'
import { Workbench } from '../support/engine'

// What is said of a plan beforehand is compared with what comes of it: three weeks by the real scheduler and the real
// pruning, on a clock that is moved.

const DAY = 86_400_000
const DAYS = 21
const DATA = `create table leg (id int primary key, note text);
  insert into leg select g, md5(g::text) || md5('x' || g) from generate_series(1, 60000) g`

let bench: Workbench
let vessel: Vessel
let began: number
let aheadMs = 0
const clock = { now: () => new Date(Date.now() + aheadMs), ofSource: (at: Date) => new Date(at.getTime() + aheadMs) }
const context = () => {
  const duties = { take: async () => true } as unknown as SchedulerContext['duties']
  const enqueue: SchedulerContext['enqueue'] = (...of) => bench.engine.enqueue(...of)
  return Object.assign(Object.create(bench.engine) as SchedulerContext, { clock, duties, enqueue })
}

/** What is due is done, and the store is pruned. */
async function letDayGo(): Promise<void> {
  await new Scheduler(context()).look()
  const waiting = await bench.engine.db.selectFrom('run').select('id').where('state', '=', 'waiting').orderBy('created_at').execute()
  for (const { id } of waiting) await perform(context(), id)
  const prune = await addRun(context(), { kind: 'prune', vessel, startedBy: 'a test', params: { store: 'dry-dock' } })
  await perform(context(), prune)
  const runs = await bench.engine.db.selectFrom('run').select(['kind', 'error']).where('state', 'not in', ['done', 'warned']).execute()
  if (runs.length > 0) throw new Error(JSON.stringify(runs))
}

beforeAll(async () => {
  bench = await Workbench.open(DATA)
  began = clock.now().getTime()
  const schedule: Schedule = {
    zone: 'UTC',
    from: new Date(began).toISOString(),
    lines: [
      {
        id: 'a',
        name: 'nightly',
        times: { kind: 'every', count: 24, unit: 'hours' },
        makes: { kind: 'cycle', points: 7, first: 'full', rest: 'differential' },
      },
    ],
    meanwhile: 'wait',
  }
  const retention = { ...defaultRetention(), rules: [{ kind: 'last' as const, points: 10 }], atLeast: 2, logHours: 0 }
  const { slug, version, definition } = await bench.vessel()
  await saveDefinition(bench.engine, slug, version, { ...definition, schedule, retention })
  vessel = await vesselBySlug(bench.engine, slug)
  await letDayGo()
  for (let day = 1; day <= DAYS; day++) {
    aheadMs = day * DAY
    // Newer rows change more often than older ones, and some are new.
    bench.sql(`update leg set note = md5(note || '${day}') || md5('y' || note) where id > 58000 - ${day} * 500 and id % 3 = 0;
      insert into leg select m.id + g, md5(g || '-${day}') || md5(g || '+${day}') from generate_series(1, 400) g, (select max(id) id from leg) m`)
    await letDayGo()
  }
}, 240_000)
afterAll(() => bench?.close())

describe('what a plan was simulated to be', () => {
  it('is what three weeks of it came to, within 15 %', async () => {
    const measured = await measuredSizes(bench.engine, vessel.id)
    const sizes = sizesOf(measured, 0, 1, null)
    const { schedule, retention } = vessel.definition
    const plan = { schedule: schedule!, retention: retention!, sizes, price: null, logSeconds: null }
    const { days } = simulate(plan, began, DAYS + 1)
    const { rows } = await sql<{ bytes: number }>`select sum(bytes)::float8 as bytes from pack`.execute(bench.engine.db)
    const { points } = await lanesOf(bench.engine, vessel.id)
    const said = days[DAYS]!
    const counted = Object.values(said.points).reduce((sum, count) => sum + count, 0)
    expect(counted).toBe(points.length)
    expect(Math.abs(said.storedBytes / rows[0]!.bytes - 1)).toBeLessThanOrEqual(0.15)
  })
})
