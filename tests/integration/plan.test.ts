import { sql } from 'kysely'
import { afterAll, beforeAll, beforeEach, describe, expect, it } from 'vitest'
import type { PlanLine, Schedule } from '../../core/plan/schedule'
import { VesselError } from '../../core/errors'
import { pauseVessel, pauseWider, resumeVessel, resumeWider } from '../../engine/catalog/pauses'
import { standingOfVessel } from '../../engine/catalog/standing'
import type { RunState } from '../../engine/catalog/types'
import { saveDefinition, vesselBySlug, type Vessel } from '../../engine/catalog/vessels'
import { Scheduler, type SchedulerContext } from '../../engine/jobs/scheduler'
import { perform } from '../../engine/runs/runner'
import { Workbench } from '../support/engine'

// Plans are carried out: every time has one run, or one record that says why it has none. No worker runs here; the test
// moves the clock, and lets several schedulers look at once.

let bench: Workbench
/** How far the clock of this installation is ahead of the catalog's. */
let aheadMs = 0
const clock = {
  now: () => new Date(Date.now() + aheadMs),
  ofSource: (at: Date) => new Date(at.getTime() + aheadMs),
}
const MINUTE = 60_000

const LINE: PlanLine = {
  id: 'hourly',
  name: 'hourly',
  times: { kind: 'every', count: 1, unit: 'hours' },
  makes: { kind: 'cycle', points: 3, first: 'full', rest: 'differential' },
}

/** A scheduler of a worker of its own, which never leaves the work to another. */
function scheduler(more: Partial<SchedulerContext> = {}): Scheduler {
  const context = Object.create(bench.engine) as SchedulerContext
  const duties = { take: async () => true } as unknown as SchedulerContext['duties']
  const enqueue: SchedulerContext['enqueue'] = (...of) => bench.engine.enqueue(...of)
  return new Scheduler(Object.assign(context, { clock, duties, enqueue, ...more }))
}
const look = () => scheduler().look()

beforeAll(async () => {
  bench = await Workbench.open(
    `create schema sales; create table sales.leg (id int primary key, v text); insert into sales.leg select g, 'v' from generate_series(1, 100) g`,
  )
})
afterAll(() => bench?.close())
beforeEach(async () => {
  // A vessel of an earlier test is not looked at any more.
  await sql`update vessel_version set definition = definition - 'schedule'`.execute(bench.engine.db)
  await sql`update due set settled = true`.execute(bench.engine.db)
  await sql`delete from wider_pause`.execute(bench.engine.db)
  aheadMs = 0
})

let count = 0
async function planned(more: Partial<Schedule> = {}): Promise<Vessel> {
  const vessel = await bench.vessel(`Plan ${++count}`)
  return save(vessel, {
    zone: 'UTC',
    from: new Date(clock.now().getTime() + 30 * MINUTE).toISOString(),
    lines: [LINE],
    meanwhile: 'wait',
    ...more,
  })
}
async function save(vessel: Vessel, schedule: Schedule): Promise<Vessel> {
  await saveDefinition(bench.engine, vessel.slug, vessel.version, { ...vessel.definition, schedule })
  return vesselBySlug(bench.engine, vessel.slug)
}
const runsOf = (vessel: Vessel) =>
  bench.engine.db.selectFrom('run').selectAll().where('vessel_id', '=', vessel.id).orderBy('created_at').orderBy('id').execute()
const dueOf = (vessel: Vessel) =>
  bench.engine.db.selectFrom('due').selectAll().where('vessel_id', '=', vessel.id).orderBy('due_at').execute()
async function doAll(vessel: Vessel): Promise<void> {
  for (const { id, state } of await runsOf(vessel)) if (state === 'waiting') await perform(bench.engine, id)
}
/** The first full is made, and the first time of the line is a minute ago. */
async function begun(more: Partial<Schedule> = {}): Promise<Vessel> {
  const vessel = await planned(more)
  await look()
  await doAll(vessel)
  aheadMs = 31 * MINUTE
  return vessel
}
const endAs = (id: string, state: RunState, code?: string) => {
  const error = code && JSON.stringify(new VesselError(code, { what: 'It was away.', touched: 'Nothing.', next: 'Wait.' }))
  return bench.engine.db
    .updateTable('run')
    .set({ state, ...(error ? { error } : {}) })
    .where('id', '=', id)
    .execute()
}

describe('a plan that was saved', () => {
  it('begins with a full at once, and once, whoever looks', async () => {
    const vessel = await planned()
    await Promise.all([look(), look(), look(), look()])
    await look()
    const runs = await runsOf(vessel)
    expect(runs.map(({ params, started_by: by, comment }) => [params.what, by, comment])).toEqual([
      ['full', 'the plan', 'The first full of the plan.'],
    ])
    await doAll(vessel)
    expect((await runsOf(vessel))[0]!.state).toBe('done')
    await look()
    expect(await runsOf(vessel)).toHaveLength(1)
  })

  it('makes what its cycle says, each time once, in real runs', async () => {
    const vessel = await begun()
    for (let hour = 0; hour < 4; hour++) {
      await Promise.all([look(), look(), look()])
      await doAll(vessel)
      aheadMs += 60 * MINUTE
    }
    const runs = (await runsOf(vessel)).slice(1)
    const plan = runs.map(({ params }) => [params.what, (params.plan as { place: number }).place])
    expect(plan).toEqual([
      ['full', 1],
      ['differential', 2],
      ['differential', 3],
      ['full', 1],
    ])
    expect(runs.map(({ state }) => state)).toEqual(['done', 'done', 'done', 'done'])
    const kinds = await bench.engine.db.selectFrom('artifact').select('kind').where('vessel_id', '=', vessel.id).orderBy('at').execute()
    expect(kinds.map(({ kind }) => kind)).toEqual(['full', 'full', 'differential', 'differential', 'full'])
    const times = (await dueOf(vessel)).slice(1).map(({ due_at: at }) => at.getTime())
    expect(times.slice(1).map((time, i) => time - times[i]!)).toEqual([60 * MINUTE, 60 * MINUTE, 60 * MINUTE])
  })

  it('becomes a full where there is nothing to build on, and says so', async () => {
    const vessel = await planned({ lines: [{ ...LINE, makes: { kind: 'each', what: 'differential' } }] })
    await look()
    // The first full came to nothing.
    await endAs((await runsOf(vessel))[0]!.id, 'failed', 'privilege_missing')
    aheadMs = 31 * MINUTE
    await look()
    const run = (await runsOf(vessel)).at(-1)!
    expect(run.params.what).toBe('full')
    expect(run.comment).toContain('A full instead of the differential')
    expect(run.comment).toContain('no full yet')
  })
})

describe('times at which nobody ran', () => {
  it('are one run for the newest, and one record that counts the others', async () => {
    const vessel = await begun()
    aheadMs += 5 * 60 * MINUTE + 20 * MINUTE
    await Promise.all([look(), look()])
    const [, ...due] = await dueOf(vessel)
    expect(due.map(({ outcome, times }) => [outcome, times])).toEqual([
      ['missed', 5],
      ['run', 1],
    ])
    expect(due[0]!.last_due_at.getTime() - due[0]!.due_at.getTime()).toBe(4 * 60 * MINUTE)
    const runs = await runsOf(vessel)
    expect(runs).toHaveLength(2)
    expect(runs[1]!.comment).toMatch(/^2[01] min late: no worker decided it at its time\.$/)
  })

  it('have no run when their window is over', async () => {
    const window = { minutes: 10, spread: false, close: 'finish' as const }
    const vessel = await begun({ lines: [{ ...LINE, window }] })
    aheadMs += 20 * MINUTE
    await look()
    expect(await runsOf(vessel)).toHaveLength(1)
    expect((await dueOf(vessel)).at(-1)).toMatchObject({ outcome: 'missed', why: expect.stringContaining('window closed') })
  })

  it('are as many when the clock jumps back and forth', async () => {
    const vessel = await begun()
    for (const ahead of [31, -5 * 60, 31, 20, 31, 92, -60, 92]) {
      aheadMs = ahead * MINUTE
      await look()
      await doAll(vessel)
    }
    expect((await dueOf(vessel)).slice(1).map(({ outcome, times }) => [outcome, times])).toEqual([
      ['run', 1],
      ['run', 1],
    ])
    expect(await runsOf(vessel)).toHaveLength(3)
  })

  it('count from when they were put otherwise', async () => {
    const vessel = await begun()
    aheadMs = 10 * 60 * MINUTE
    await sql`update vessel_version set created_at = ${clock.now()} where vessel_id = ${vessel.id}`.execute(bench.engine.db)
    const { schedule } = vessel.definition
    const lines = [{ ...LINE, times: { kind: 'every' as const, count: 2, unit: 'hours' as const } }]
    await bench.engine.db
      .updateTable('vessel_version')
      .set({ definition: JSON.stringify({ ...vessel.definition, schedule: { ...schedule!, lines } }) })
      .where('vessel_id', '=', vessel.id)
      .execute()
    await look()
    expect(await runsOf(vessel)).toHaveLength(1)
    aheadMs += 121 * MINUTE
    await look()
    expect((await dueOf(vessel)).slice(1).map(({ outcome, times }) => [outcome, times])).toEqual([['run', 1]])
  })
})

describe('a vessel that is paused', () => {
  const pause = (vessel: Vessel, until: Date | null) =>
    pauseVessel(Object.assign(Object.create(bench.engine), { clock }) as typeof bench.engine, vessel.slug, {
      reason: 'the server moves',
      until,
      by: 'a test',
    })

  it('is paused with its source, and with everything, and goes on by itself when that ends', async () => {
    const vessel = await begun()
    const engine = Object.assign(Object.create(bench.engine), { clock }) as typeof bench.engine
    const { id } = await bench.engine.db.selectFrom('source').select('id').executeTakeFirstOrThrow()
    const standing = async () => (await standingOfVessel(engine, await vesselBySlug(engine, vessel.slug))).reason
    const outcomes = async () => (await dueOf(vessel)).slice(1).map(({ outcome }) => outcome)
    await pauseWider(engine, id, { reason: 'the server moves', until: null, by: 'a test' })
    await look()
    expect(await outcomes()).toEqual(['left out'])
    expect(await standing()).toMatch(/^Paused for .* by a test, with db: the server moves\.$/)
    await pauseWider(engine, null, { reason: 'the store is full', until: new Date(clock.now().getTime() + 90 * MINUTE), by: 'a test' })
    expect(await standing()).toMatch(/^Paused for .* by a test, with everything: the store is full\. It goes on in 1 h 30 min\.$/)
    await resumeWider(engine, id)
    aheadMs += 60 * MINUTE
    await look()
    expect(await outcomes()).toEqual(['left out', 'left out'])
    aheadMs += 60 * MINUTE
    await look()
    expect(await outcomes()).toEqual(['left out', 'left out', 'run'])
    expect(await bench.engine.db.selectFrom('wider_pause').selectAll().execute()).toEqual([])
  })

  it('is not backed up by itself, on the record, until it is resumed', async () => {
    const vessel = await begun()
    await pause(vessel, null)
    await look()
    aheadMs += 60 * MINUTE
    await look()
    expect((await dueOf(vessel)).slice(1).map(({ outcome, why }) => [outcome, why])).toEqual([
      ['left out', 'The vessel was paused.'],
      ['left out', 'The vessel was paused.'],
    ])
    expect((await standingOfVessel(bench.engine, await vesselBySlug(bench.engine, vessel.slug))).reason).toMatch(
      /^Paused for .* by a test: the server moves\.$/,
    )
    await resumeVessel(bench.engine, vessel.slug)
    aheadMs += 60 * MINUTE
    await look()
    expect(await runsOf(vessel)).toHaveLength(2)
  })

  it('is not tried again either', async () => {
    const vessel = await begun()
    await look()
    await endAs((await runsOf(vessel))[1]!.id, 'failed', 'unreachable')
    await pause(vessel, null)
    for (const minutes of [0, 2, 5]) {
      aheadMs += minutes * MINUTE
      await look()
    }
    expect(await runsOf(vessel)).toHaveLength(2)
  })

  it('goes on by itself when its time is over', async () => {
    const vessel = await begun()
    await pause(vessel, new Date(clock.now().getTime() + 30 * MINUTE))
    await look()
    expect(await runsOf(vessel)).toHaveLength(1)
    aheadMs += 60 * MINUTE
    await look()
    expect((await vesselBySlug(bench.engine, vessel.slug)).pause).toBeNull()
    expect(await runsOf(vessel)).toHaveLength(2)
    await expect(pause(vessel, new Date(clock.now().getTime() - MINUTE))).rejects.toMatchObject({ code: 'pause_over' })
  })
})

describe('a worker that dies while it decides', () => {
  it('leaves the time undecided, and the next one decides it', async () => {
    const vessel = await begun()
    const dies = scheduler({ enqueue: () => Promise.reject(new Error('killed')) })
    await dies.look()
    expect(await runsOf(vessel)).toHaveLength(1)
    expect(await dueOf(vessel)).toHaveLength(1)
    await look()
    expect(await runsOf(vessel)).toHaveLength(2)
    const jobs = await sql`select from pgboss.job where data->>'runId' = ${(await runsOf(vessel))[1]!.id}`.execute(bench.engine.db)
    expect(jobs.rows).toHaveLength(1)
  })
})

describe('a time that comes while the last run goes on', () => {
  it('waits, once, where the plan says so', async () => {
    const vessel = await begun()
    await look()
    await endAs((await runsOf(vessel))[1]!.id, 'running')
    for (let hour = 0; hour < 3; hour++) {
      aheadMs += 60 * MINUTE
      await look()
    }
    expect((await dueOf(vessel)).slice(1).map(({ outcome }) => outcome)).toEqual(['run', 'run', 'left out', 'left out'])
  })

  it('is left out where the plan says that', async () => {
    const vessel = await begun({ meanwhile: 'leave out' })
    await look()
    aheadMs += 60 * MINUTE
    await look()
    expect((await dueOf(vessel)).at(-1)).toMatchObject({ outcome: 'left out', why: expect.stringContaining('still went on') })
  })

  it('is stopped when its window closes, where the plan says so', async () => {
    const window = { minutes: 10, spread: false, close: 'stop' as const }
    const vessel = await begun({ lines: [{ ...LINE, window }] })
    await look()
    const { id } = (await runsOf(vessel))[1]!
    await endAs(id, 'running')
    aheadMs += 8 * MINUTE
    await look()
    expect((await bench.record(id)).cancel_requested_at).toBeNull()
    aheadMs += 2 * MINUTE
    await look()
    expect((await bench.record(id)).cancel_requested_at).not.toBeNull()
    expect((await bench.messages(id)).join()).toContain('Its window has closed')
  })
})

describe('a run that waits', () => {
  it('does not begin when its window has closed', async () => {
    const window = { minutes: 10, spread: false, close: 'finish' as const }
    const vessel = await begun({ lines: [{ ...LINE, window }] })
    await look()
    aheadMs += 10 * MINUTE
    await look()
    expect((await runsOf(vessel))[1]).toMatchObject({ state: 'cancelled' })
    expect((await dueOf(vessel)).at(-1)).toMatchObject({ outcome: 'missed', why: expect.stringContaining('could not begin before') })
  })
})

describe('one scheduler that looks again and again', () => {
  it('asks of a vessel what is due when something may be, or when it was saved or paused', async () => {
    const vessel = await begun()
    const looks = scheduler()
    await looks.look()
    expect(await runsOf(vessel)).toHaveLength(2)
    await doAll(vessel)
    for (const minutes of [10, 49, 1]) {
      aheadMs += minutes * MINUTE
      await looks.look()
    }
    expect(await runsOf(vessel)).toHaveLength(3)
    const lines = [{ ...LINE, times: { kind: 'every' as const, count: 1, unit: 'minutes' as const } }]
    const saved = await save(vessel, { ...vessel.definition.schedule!, lines })
    await sql`update vessel_version set created_at = ${clock.now()} where vessel_id = ${vessel.id} and version = ${saved.version}`.execute(
      bench.engine.db,
    )
    await looks.look()
    await doAll(vessel)
    aheadMs += MINUTE
    await looks.look()
    expect(await runsOf(vessel)).toHaveLength(4)
  })
})

describe('a run that failed', () => {
  const tries = async (vessel: Vessel) => (await runsOf(vessel)).length - 1

  it('is tried again when its reason may pass, with time between, and not for ever', async () => {
    const vessel = await begun()
    await look()
    for (const [minutes, expected] of [
      [0, 1],
      [0.5, 1],
      [0.6, 2],
      [0, 2],
      [2.1, 3],
    ] as const) {
      const last = (await runsOf(vessel)).at(-1)!
      if (last.state === 'waiting') await endAs(last.id, 'failed', 'unreachable')
      aheadMs += minutes * MINUTE
      await look()
      expect(await tries(vessel)).toBe(expected)
    }
    expect((await runsOf(vessel)).at(-1)).toMatchObject({ comment: 'Try 3: It was away.', params: { plan: { line: 'hourly' } } })
    expect(await dueOf(vessel)).toHaveLength(2)
    // What is due next takes its place.
    await endAs((await runsOf(vessel)).at(-1)!.id, 'failed', 'unreachable')
    aheadMs += 60 * MINUTE
    await look()
    await look()
    expect((await dueOf(vessel)).map(({ settled }) => settled)).toEqual([true, true, false])
  })

  it('is not tried again when somebody has to mend its reason', async () => {
    const vessel = await begun()
    await look()
    await endAs((await runsOf(vessel))[1]!.id, 'failed', 'privilege_missing')
    aheadMs += 5 * MINUTE
    await look()
    await look()
    expect(await tries(vessel)).toBe(1)
    expect((await dueOf(vessel)).every(({ settled }) => settled)).toBe(true)
  })
})
