import { once } from 'node:events'
import type { ChildProcess } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { existsSync, readdirSync, renameSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { sql } from 'kysely'
import pg from 'pg'
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest'
import { wishOf } from '../../core/restore/wish'
import { setSourceAtOnce } from '../../engine/catalog/sources'
import { setStoreAtOnce } from '../../engine/catalog/stores'
import { addRun, requestCancel } from '../../engine/catalog/runs'
import { openStore } from '../../engine/catalog/stores'
import type { Vessel } from '../../engine/catalog/vessels'
import { Engine, optionsFromEnvironment } from '../../engine/engine'
import { Duties } from '../../engine/jobs/duties'
import { tidyUp } from '../../engine/runs/orphans'
import { perform } from '../../engine/runs/runner'
import { Workbench } from '../support/engine'
import { killWorker, startWorker } from '../support/worker'

// A run belongs to one worker. One that slept while its run was ended by another does nothing more to it.

// Random, so that more than one pack is written.
const DATA = `
  create extension pgcrypto;
  create schema sales;
  create table sales.leg (leg_id int primary key, note bytea);
  insert into sales.leg select g, gen_random_bytes(1000) from generate_series(1, 90000) g;
  create table sales.zone (id int primary key, note text);
  insert into sales.zone select g, md5(g::text) from generate_series(1, 1000) g;`

const COUNTS = 'select (select count(*) from sales.leg), (select count(*) from sales.zone)'

let bench: Workbench
let vessel: Vessel
let small: Vessel
let worker: ChildProcess

beforeAll(async () => {
  bench = await Workbench.open(DATA)
  vessel = await bench.vessel()
  small = await bench.vessel('Small', [bench.path('sales', 'zone')])
})
afterEach(async () => {
  if (worker) await killWorker(worker)
})
afterAll(() => bench?.close())

const engineOptions = () => optionsFromEnvironment(bench.environment)

const files = () => ['packs', 'points'].flatMap((folder) => readdirSync(join(bench.place, folder))).sort()

/** Waits for a state of things of which every change in the catalog may be a part. */
async function until(isSo: () => Promise<boolean>): Promise<void> {
  for (const end = Date.now() + 60_000; Date.now() < end;) {
    if (await isSo()) return
    const soon = new AbortController()
    setTimeout(() => soon.abort(), 200).unref()
    await once(bench.engine.changes, 'change', { signal: soon.signal }).catch(() => undefined)
  }
  throw new Error('it did not come about')
}

const packsOf = async (run: string) => (await bench.engine.db.selectFrom('pack').select('id').where('run_id', '=', run).execute()).length

/** Stops the worker of a run in the middle of it, lets the run be ended by another one, and lets the worker go on. */
async function sleepThrough(id: string): Promise<void> {
  worker.kill('SIGSTOP')
  await tidyUp(bench.engine, true)
  expect(await bench.record(id)).toMatchObject({ state: 'failed', error: { code: 'worker_died' } })
  worker.kill('SIGCONT')
  await until(async () => (await bench.messages(id)).some((text) => text.includes('taken for dead')))
}

describe('a run whose worker died, and whose end can’t be written', () => {
  const heardOf = async (id: string) => {
    const heard = sql<string>`heartbeat_at::text`.as('heard')
    return (await bench.engine.db.selectFrom('run').select(heard).where('id', '=', id).executeTakeFirstOrThrow()).heard
  }

  it('is not kept alive by whoever tried: it is silent again, and another look ends it', async () => {
    const { engine } = bench
    const ids = [small, vessel].map((vessel) => addRun(engine, { kind: 'backup', vessel, startedBy: 'a test' }))
    const [id, other] = (await Promise.all(ids)) as [string, string]
    const claimed = { state: 'running' as const, heartbeat_at: sql<Date>`now() - interval '1 minute'` }
    for (const run of [id, other])
      await engine.db
        .updateTable('run')
        .set({ ...claimed, claim: randomUUID() })
        .where('id', '=', run)
        .execute()
    await sql`create function refuse() returns trigger language plpgsql as
      $$ begin raise exception 'terminating connection due to administrator command' using errcode = '57P01'; end $$`.execute(engine.db)
    await sql`create trigger refuse before insert on run_message for each row execute function refuse()`.execute(engine.db)
    await tidyUp(engine, true)
    await sql`drop function refuse cascade`.execute(engine.db)
    for (const run of [id, other]) expect((await bench.record(run)).state).toBe('running')
    const heard = await heardOf(id)
    // Nobody tells that nothing comes: a heart would have beaten twice.
    await new Promise((resolve) => setTimeout(resolve, 2500))
    expect(await heardOf(id)).toBe(heard)
    await tidyUp(engine, true)
    for (const run of [id, other]) expect(await bench.record(run)).toMatchObject({ state: 'failed', error: { code: 'worker_died' } })
  })
})

describe('a worker that slept while its run was ended', () => {
  it('makes no point, leaves nothing in the store, and says so', async () => {
    const before = files()
    worker = startWorker(bench.environment)
    const id = await bench.engine.startRun({ kind: 'backup', vessel, startedBy: 'a test' })
    await until(async () => (await packsOf(id)) > 0)
    await sleepThrough(id)
    const { state, outcome, counters } = await bench.record(id)
    expect([state, outcome]).toEqual(['failed', null])
    expect(counters.rows).toBeGreaterThan(0)
    expect(await bench.engine.db.selectFrom('point').select('id').execute()).toEqual([])
    expect(files()).toEqual(before)
  })

  it('brings nothing more back', async () => {
    const point = await bench.backup(vessel)
    bench.sql('delete from sales.leg where leg_id > 80000; delete from sales.zone where id > 500')
    worker = startWorker(bench.environment)
    const wish = { picks: [bench.path('sales')], into: { mode: 'original' }, collide: 'replace', each: {} }
    const id = await bench.engine.startRun({ kind: 'restore', vessel, startedBy: 'a test', params: { point, wish, reason: 'a test' } })
    await until(async () => ((await bench.record(id)).counters.rows ?? 0) > 1000)
    await sleepThrough(id)
    // What was at hand was rolled back, and what came after it was not begun.
    expect(bench.sql(COUNTS)).toBe('80000|500')
    const { run } = await bench.restore(vessel, point, wish as never)
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(bench.sql(COUNTS)).toBe('90000|1000')
  })
})

describe('what can’t begin yet', () => {
  it('waits: two backups of one vessel never go at once', async () => {
    const [first, second] = [
      await addRun(bench.engine, { kind: 'backup', vessel, startedBy: 'a test', params: { what: 'full' } }),
      await addRun(bench.engine, { kind: 'backup', vessel, startedBy: 'a test', params: { what: 'full' } }),
    ]
    const going = perform(bench.engine, first)
    await until(async () => (await bench.record(first)).state === 'running')
    expect(await perform(bench.engine, second)).toBe('later')
    expect(await bench.record(second)).toMatchObject({ state: 'waiting', waits_for: expect.stringContaining('Another backup of') })
    await going
    expect(await perform(bench.engine, second)).toBe('over')
    expect([(await bench.record(first)).state, (await bench.record(second)).state]).toEqual(['done', 'done'])
  })

  it('waits where as many runs work as may, at a source or with a store; a restore waits for none', async () => {
    const point = await bench.backup(small)
    const other = await bench.vessel('Other', [bench.path('sales', 'zone')])
    const { engine } = bench
    const { id: source } = await engine.db.selectFrom('source').select('id').executeTakeFirstOrThrow()
    const { id: store } = await engine.db.selectFrom('store').select('id').executeTakeFirstOrThrow()
    const add = (kind: 'backup' | 'restore' | 'verify', of: Vessel, params = {}) =>
      addRun(engine, { kind, vessel: of, startedBy: 'a test', params })
    for (const set of [
      (most: number | null) => setSourceAtOnce(engine, source, most),
      (most: number | null) => setStoreAtOnce(engine, store, most),
    ]) {
      await set(1)
      const [first, second] = [await add('backup', vessel), await add('backup', other)]
      const going = perform(engine, first)
      await until(async () => (await bench.record(first)).state === 'running')
      expect(await perform(engine, second)).toBe('later')
      expect((await bench.record(second)).waits_for).toMatch(/^As many runs work with (db|dry-dock) as may at once \(1\)/)
      await set(2)
      const both = await perform(engine, second)
      await set(1)
      const restored = await add('restore', small, { point, wish: wishOf({ picks: [bench.path('sales', 'zone')] }), reason: 'a test' })
      expect([both, await perform(engine, restored)]).toEqual(['over', 'over'])
      await going
      await set(null)
    }
    // Those that may begin at the same moment begin one after the other.
    await setStoreAtOnce(engine, store, 1)
    const ids = await Promise.all(
      Array.from({ length: 4 }, async (_, i) => add('backup', await bench.vessel(`Many ${i}`, [bench.path('sales', 'zone')]))),
    )
    await Promise.all(
      ids.map(async (id) => {
        while ((await perform(engine, id)) === 'later') await new Promise((resolve) => setTimeout(resolve, 20))
      }),
    )
    await setStoreAtOnce(engine, store, null)
    const runs = await Promise.all(ids.map((id) => bench.record(id)))
    const spans = runs.map(({ started_at: from, finished_at: to }) => [from!.getTime(), to!.getTime()]).sort((a, b) => a[0]! - b[0]!)
    for (const [i, [from]] of spans.slice(1).entries()) expect(from).toBeGreaterThanOrEqual(spans[i]![1]!)
  })

  it('comes again by itself, when a worker does it', async () => {
    worker = startWorker(bench.environment)
    const started = { kind: 'backup' as const, vessel, startedBy: 'a test', params: { what: 'full' } }
    const ids = [await bench.engine.startRun(started), await bench.engine.startRun(started)]
    const records = () => Promise.all(ids.map((id) => bench.record(id)))
    await until(async () => (await records()).every(({ state }) => state === 'done'))
    const [a, b] = (await records()).sort((x, y) => x.started_at!.getTime() - y.started_at!.getTime())
    expect(b!.started_at!.getTime()).toBeGreaterThanOrEqual(a!.finished_at!.getTime())
  })

  it('waits: two restores never write into one database at once', async () => {
    const point = await bench.backup(small)
    const params = { point, wish: wishOf({ picks: [bench.path('sales', 'zone')] }), reason: 'a test' }
    const [first, second] = [
      await addRun(bench.engine, { kind: 'restore', vessel: small, startedBy: 'a test', params }),
      await addRun(bench.engine, { kind: 'restore', vessel: small, startedBy: 'a test', params }),
    ]
    // The application holds the table, so that the first one has to wait for it.
    const application = new pg.Client({ connectionString: bench.server.url(bench.database) })
    await application.connect()
    try {
      await application.query('begin; lock table sales.zone in access share mode')
      const going = perform(bench.engine, first)
      const isWithin = async (id: string) =>
        (await bench.engine.db.selectFrom('run_step').select('title').where('run_id', '=', id).execute()).length > 0
      await until(() => isWithin(first))
      // Nor can anybody look at it any more, as while the first one writes.
      await application.query('rollback; begin; lock table sales.zone in access exclusive mode')
      const waiting = perform(bench.engine, second)
      await until(async () => (await bench.messages(second)).some((text) => text.startsWith('Another restore writes into')))
      expect(await isWithin(second)).toBe(false)
      await application.query('rollback')
      await Promise.all([going, waiting])
    } finally {
      await application.end()
    }
    const { rows } = await sql<{ apart: boolean }>`select min(started_at) >= (select finished_at from run where id = ${first}) as apart
      from run_step where run_id = ${second}`.execute(bench.engine.db)
    expect(rows).toEqual([{ apart: true }])
    expect([(await bench.record(first)).state, (await bench.record(second)).state]).toEqual(['done', 'done'])
  })

  it('waits for a worker that reaches its store, and fails with the reason when there is none', async () => {
    const add = () => addRun(bench.engine, { kind: 'verify', vessel: small, startedBy: 'a test' })
    const [found, never] = [await add(), await add()]
    renameSync(bench.place, `${bench.place} away`)
    try {
      expect(await perform(bench.engine, found)).toBe('later')
      expect(await bench.record(found)).toMatchObject({
        state: 'waiting',
        waits_for: expect.stringContaining('does not reach the store dry-dock'),
      })
      await bench.engine.db
        .updateTable('run')
        .set({ created_at: new Date(0) })
        .where('id', '=', never)
        .execute()
      expect(await perform(bench.engine, never)).toBe('over')
      expect(await bench.record(never)).toMatchObject({ state: 'failed', error: { code: expect.stringMatching(/^store_/) } })
    } finally {
      renameSync(`${bench.place} away`, bench.place)
    }
    expect(await perform(bench.engine, found)).toBe('over')
    expect((await bench.record(found)).state).toBe('done')
  })
})

describe('what was left over in a store', () => {
  it('may be that of somebody at work, unless nobody else is there; what was never announced is nobody’s to remove', async () => {
    const { announced } = (await openStore(bench.engine, { name: 'dry-dock' })).index
    const [left, strange] = ['left', 'strange'].map((name) => [`packs/${name}.pack`, `packs/${name}.pack.part`])
    const write = (names: string[]) => names.forEach((name) => writeFileSync(join(bench.place, name), 'just begun'))
    const there = (names: string[]) => names.map((name) => existsSync(join(bench.place, name)))
    await announced.add(left![0]!, randomUUID())
    write([...left!, ...strange!])
    const other = await Engine.start(engineOptions())
    try {
      await tidyUp(other)
      expect(there([...left!, ...strange!])).toEqual([true, true, true, true])
    } finally {
      await other.close()
    }
    await tidyUp(bench.engine, true)
    expect(there([...left!, ...strange!])).toEqual([false, false, true, false])
    rmSync(join(bench.place, strange![0]!))
  })
})

describe('what one of all workers does', () => {
  it('is done by one at a time, and by another when that one is not heard of any more', async () => {
    const { db } = bench.engine
    const [first, second] = [new Duties(db), new Duties(db)]
    expect([await first.take('a', 60_000), await second.take('a', 60_000), await first.take('a', 60_000)]).toEqual([true, false, true])
    await sql`update duty set until = now() where what = 'a'`.execute(db)
    expect([await second.take('a', 60_000), await first.take('a', 60_000)]).toEqual([true, false])
    await first.giveUp('a')
    expect(await first.take('a', 60_000)).toBe(false)
    await second.giveUp('a')
    expect(await first.take('a', 60_000)).toBe(true)
  })

  it('is to look at sources: two workers look at each once', async () => {
    const { db } = bench.engine
    await sql`create table looked (source uuid); create function looks() returns trigger language plpgsql as
      $$ begin insert into looked values (new.id); return null; end $$;
      create trigger looks after update on source for each row execute function looks()`.execute(db)
    const other = await Engine.start(engineOptions())
    try {
      await Promise.all([bench.engine.discoverAll(), other.discoverAll()])
      await Promise.all([other.discoverAll(), bench.engine.discoverAll()])
      const { rows } = await sql<{ times: number }>`select count(*)::int as times from looked group by source`.execute(db)
      // Whoever has the duty may look again; the other one never does.
      expect(rows).toEqual([{ times: 2 }])
    } finally {
      await other.close()
      await sql`drop function looks cascade; drop table looked`.execute(db)
    }
  })
})

describe('the master key of a catalog', () => {
  const start = (key: { masterKey?: string; masterKeyFile: string }) => Engine.start({ ...engineOptions(), ...key })

  it('is never made a second time', async () => {
    const file = join(bench.place, '..', 'another machine', 'master.key')
    await expect(start({ masterKeyFile: file })).rejects.toMatchObject({ code: 'master_key_missing' })
    expect(existsSync(file)).toBe(false)
  })

  it('is the first it was made with, also where a credential was never opened', async () => {
    const file = bench.environment.VESSEL_MASTER_KEY_FILE!
    await expect(start({ masterKey: 'ab'.repeat(32), masterKeyFile: file })).rejects.toMatchObject({ code: 'master_key_wrong' })
    await bench.engine.db.deleteFrom('master_key').execute()
    await expect(start({ masterKey: 'ab'.repeat(32), masterKeyFile: file })).rejects.toMatchObject({ code: 'master_key_wrong' })
    await (await start({ masterKeyFile: file })).close()
  })
})

describe('a run whose worker died', () => {
  it('is ended once, by whoever is first', async () => {
    const id = await addRun(bench.engine, { kind: 'verify', vessel: small, startedBy: 'a test' })
    await bench.engine.db
      .updateTable('run')
      .set({ state: 'running', heartbeat_at: new Date(0) })
      .where('id', '=', id)
      .execute()
    await tidyUp(bench.engine)
    await Promise.all([tidyUp(bench.engine), tidyUp(bench.engine), tidyUp(bench.engine)])
    expect(await bench.messages(id)).toEqual(['The worker that did this run ended in the middle of it.'])
  })

  it('is not taken for dead at the first look: a catalog that was away had everybody silent', async () => {
    const id = await addRun(bench.engine, { kind: 'verify', vessel: small, startedBy: 'a test' })
    const silent = { state: 'running' as const, heartbeat_at: new Date(0) }
    await bench.engine.db.updateTable('run').set(silent).where('id', '=', id).execute()
    await tidyUp(bench.engine)
    expect((await bench.record(id)).state).toBe('running')
    await tidyUp(bench.engine)
    expect((await bench.record(id)).state).toBe('failed')
  })

  it('keeps the point that it had made', async () => {
    const id = await addRun(bench.engine, { kind: 'backup', vessel: small, startedBy: 'a test', params: { what: 'full' } })
    await perform(bench.engine, id)
    const { point } = (await bench.record(id)).outcome as { point: string }
    const stored = files()
    await bench.engine.db
      .updateTable('run')
      .set({ state: 'running', outcome: null, heartbeat_at: new Date(0) })
      .where('id', '=', id)
      .execute()
    await tidyUp(bench.engine, true)
    expect(await bench.record(id)).toMatchObject({ state: 'warned', outcome: { point } })
    expect(files()).toEqual(stored)
    const { run } = await bench.restore(small, point, {
      picks: [bench.path('sales', 'zone')],
      into: { mode: 'beside', schema: null, prefix: '', suffix: '_kept', names: {} },
    })
    expect(run.state).toBe('done')
  })
})

describe('a run that nobody has begun', () => {
  it('is cancelled at once, without a worker', async () => {
    const id = await bench.engine.startRun({ kind: 'backup', vessel: small, startedBy: 'a test' })
    await requestCancel(bench.engine, id)
    expect(await bench.record(id)).toMatchObject({ state: 'cancelled', error: { touched: 'Nothing was touched.' } })
  })

  it('is recorded and queued together', async () => {
    const before = await bench.engine.db.selectFrom('run').select('id').execute()
    const refusing = async () => Promise.reject(new Error('the queue is full'))
    await expect(addRun(bench.engine, { kind: 'verify', vessel: small, startedBy: 'a test' }, refusing)).rejects.toThrow(
      'the queue is full',
    )
    expect(await bench.engine.db.selectFrom('run').select('id').execute()).toEqual(before)
  })
})

describe('content that went while a run was at work', () => {
  it('is noticed before there is a point', async () => {
    const point = await bench.backup(small)
    const id = await addRun(bench.engine, { kind: 'backup', vessel: small, startedBy: 'a test', params: { what: 'full' } })
    // What the new point would refer to, and does not write again, is made to be another run's that never ended: just as
    // its last step begins, which nobody beside could be sure to meet.
    const { db } = bench.engine
    await sql`create function lose_content() returns trigger language plpgsql as
      $$ begin update pack set committed = false; return new; end $$`.execute(db)
    await sql`create trigger lose_content after update on run_step for each row
      when (new.kind = 'manifest' and new.state = 'running') execute function lose_content()`.execute(db)
    await perform(bench.engine, id)
    await sql`drop function lose_content cascade`.execute(db)
    expect((await bench.record(id)).error).toMatchObject({ code: 'content_gone' })
    await bench.engine.db.updateTable('pack').set({ committed: true }).execute()
    expect((await bench.engine.db.selectFrom('point').select('id').where('run_id', '=', id).execute()).length).toBe(0)
    expect(readdirSync(join(bench.place, 'points'))).toContain(`${point}.point`)
  })
})
