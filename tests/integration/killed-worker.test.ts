import type { ChildProcess } from 'node:child_process'
import { once } from 'node:events'
import { readdirSync } from 'node:fs'
import { join } from 'node:path'
import { sql } from 'kysely'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { dropExpired } from '../../engine/runs/scratch'
import { tidyUp } from '../../engine/runs/orphans'
import type { Vessel } from '../../engine/catalog/vessels'
import { Workbench } from '../support/engine'
import { killWorker, startWorker, toldToStop } from '../support/worker'

// Workers of their own (bin/worker), really killed while they work.

const DATA = `
  create schema sales;
  create table sales.leg (leg_id int primary key, note text, filler text);
  insert into sales.leg select g, md5(g::text), repeat(md5((g * 7)::text), 6) from generate_series(1, 250000) g;`
const LEGS = 'select count(*), sum(hashtext(l::text)::bigint) from sales.leg l'

let bench: Workbench
let vessel: Vessel
let point: string
let worker: ChildProcess | undefined

beforeAll(async () => {
  bench = await Workbench.open(DATA)
  vessel = await bench.vessel()
  point = await bench.backup(vessel)
})
afterAll(async () => {
  worker?.kill('SIGKILL')
  await bench?.close()
})

const start = (limit?: number) => (worker = startWorker(bench.environment, limit))

/** Follows the run by the changes that it tells, until it is as wanted. */
async function until(id: string, isSo: (run: Awaited<ReturnType<Workbench['record']>>) => boolean) {
  for (const end = Date.now() + 60_000; Date.now() < end;) {
    const changed = new Promise((resolve) => {
      bench.engine.changes.once('change', resolve)
      setTimeout(resolve, 1000).unref()
    })
    const run = await bench.record(id)
    if (isSo(run)) return run
    await changed
  }
  throw new Error(`the run is not so: ${JSON.stringify(await bench.record(id))}`)
}

const files = () => ['packs', 'points'].flatMap((folder) => readdirSync(join(bench.place, folder))).sort()

describe('a worker that is killed in the middle of a backup', () => {
  it('leaves a failed run, no half-made content, and every earlier point', async () => {
    const before = files()
    bench.sql('update sales.leg set note = md5(note)')
    const changed = bench.sql(LEGS)
    const child = start()
    const id = await bench.engine.startRun({ kind: 'backup', vessel, startedBy: 'a test' })
    await until(id, (run) => run.state === 'running' && (run.counters.rows ?? 0) > 1000)
    await killWorker(child)
    await tidyUp(bench.engine, true)
    expect(await bench.record(id)).toMatchObject({ state: 'failed', error: { code: 'worker_died', next: 'Start it again.' } })
    expect(files()).toEqual(before)
    const { run } = await bench.restore(vessel, point, {
      picks: [bench.path('sales', 'leg')],
      into: { mode: 'beside', schema: null, prefix: '', suffix: '', names: {} },
    })
    expect(run.state).toBe('done')
    expect(bench.sql(LEGS)).toBe(changed)
  })
})

describe('a worker that is killed after it took the job of a run, and before it began the run', () => {
  it('leaves a run that waits, which is queued again and done by another', async () => {
    const { db, queue } = bench.engine
    const id = await bench.engine.startRun({ kind: 'verify', vessel, startedBy: 'a test' })
    await sql`update pgboss.job set state = 'active', started_on = now() - interval '2 minutes' where data ->> 'runId' = ${id}`.execute(db)
    const child = start()
    await queue.addLost(db)
    await queue.addLost(db)
    const { rows } = await sql`select from pgboss.job where data ->> 'runId' = ${id} and state <> 'active'`.execute(db)
    expect(rows).toHaveLength(1)
    await until(id, (run) => run.state === 'done')
    await killWorker(child)
  })
})

describe('a worker that is told to stop', () => {
  const stopIn = async (seconds: number) => {
    const child = startWorker({ ...bench.environment, VESSEL_DRAIN_SECONDS: String(seconds) })
    const id = await bench.engine.startRun({ kind: 'backup', vessel, startedBy: 'a test' })
    await until(id, (run) => run.state === 'running' && (run.counters.rows ?? 0) > 1000)
    const gone = once(child, 'exit')
    await toldToStop(child)
    const later = await bench.engine.startRun({ kind: 'verify', vessel, startedBy: 'a test' })
    expect((await gone)[0]).toBe(0)
    return { run: await bench.record(id), later: await bench.record(later) }
  }

  it('brings what it does to its end, and takes nothing new', async () => {
    bench.sql('update sales.leg set note = md5(note)')
    const { run, later } = await stopIn(60)
    expect([run.error, run.state, later.state]).toEqual([null, 'done', 'waiting'])
  })

  it('stops what is not over in time: it leaves nothing behind, and says why', async () => {
    const before = files()
    bench.sql('update sales.leg set note = md5(note)')
    const { run, later } = await stopIn(0)
    expect(run).toMatchObject({ state: 'failed', error: { code: 'worker_stopped' } })
    expect(later.state).toBe('waiting')
    expect(files()).toEqual(before)
  })
})

describe('a worker that is killed in the middle of a restore', () => {
  it('leaves the old data in place, and the same restore goes through afterwards', async () => {
    bench.sql('delete from sales.leg where leg_id > 200000')
    const damaged = bench.sql(LEGS)
    const child = start()
    const wish = { picks: [bench.path('sales', 'leg')], into: { mode: 'original' }, collide: 'replace', each: {} }
    const id = await bench.engine.startRun({ kind: 'restore', vessel, startedBy: 'a test', params: { point, wish, reason: 'a test' } })
    await until(id, (run) => run.state === 'running' && (run.counters.rows ?? 0) > 1000)
    await killWorker(child)
    await tidyUp(bench.engine, true)
    expect(await bench.record(id)).toMatchObject({ state: 'failed', error: { code: 'worker_died' } })
    expect(bench.sql(LEGS)).toBe(damaged)
    const { run } = await bench.restore(vessel, point, wish as never)
    expect(run.state).toBe('done')
    expect(bench.sql('select count(*) from sales.leg')).toBe('250000')
  })
})

describe('a worker that is killed while it makes a database', () => {
  const made = (like: string) => bench.server.psql('postgres', `select count(*) from pg_database where datname like '${like}'`)

  it.each([
    ['elsewhere', { mode: 'elsewhere', source: 'db', database: 'half_made' }, 'half_made'],
    ['as a scratch copy', { mode: 'scratch', source: 'db', hours: 1 }, 'scratch%'],
  ])('%s leaves none behind', async (_, into, like) => {
    const child = start()
    const id = await bench.engine.startRun({
      kind: 'restore',
      vessel,
      startedBy: 'a test',
      params: { point, wish: { picks: [bench.path()], into }, reason: null },
    })
    await until(id, (run) => run.state === 'running' && (run.counters.rows ?? 0) > 1000)
    await killWorker(child)
    expect(made(like)).toBe('1')
    await tidyUp(bench.engine, true)
    await dropExpired(bench.engine)
    expect(await bench.record(id)).toMatchObject({ state: 'failed', error: { code: 'worker_died' } })
    expect(made(like)).toBe('0')
  })
})

describe('a store that is full', () => {
  it('ends the backup with its reason and without leftovers', async () => {
    const before = files()
    bench.sql('update sales.leg set filler = repeat(md5(random()::text), 6)')
    const child = start(2_000_000)
    const id = await bench.engine.startRun({ kind: 'backup', vessel, startedBy: 'a test' })
    const run = await until(id, ({ state }) => state !== 'waiting' && state !== 'running')
    await killWorker(child)
    expect(run).toMatchObject({
      state: 'failed',
      error: { code: 'store_full', touched: 'What this run had written is removed; earlier points are untouched.' },
    })
    expect(files()).toEqual(before)
  })
})

describe('two workers on one catalog', () => {
  it('do each run once', async () => {
    const others = [start(), start()]
    const ids = await Promise.all([1, 2, 3, 4].map(() => bench.engine.startRun({ kind: 'verify', vessel, startedBy: 'a test' })))
    for (const id of ids) expect((await until(id, ({ state }) => state !== 'waiting' && state !== 'running')).state).toBe('done')
    const steps = await bench.engine.db.selectFrom('run_step').select('run_id').where('run_id', 'in', ids).execute()
    expect(steps.map((step) => step.run_id).sort()).toEqual([...ids, ...ids].sort())
    for (const child of others) await killWorker(child)
  })
})
