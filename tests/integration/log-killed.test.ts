import { spawn, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'
import { mkdirSync, watch } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, it, vi } from 'vitest'
import { searchLog } from '../../engine/log/search'
import { notify } from '../../engine/notify'
import { LogBench } from '../support/log'
import { killWorker, startWorker } from '../support/worker'

// The follower as a worker of its own (bin/worker), really killed while it works, and really refused by its disk.

const ROWS = 400
const FOLDERS = ['packs', 'segments']

let log: LogBench
let worker: ChildProcess | undefined

beforeAll(async () => {
  log = await LogBench.open(
    `create table public.ticket (id bigint generated always as identity primary key, v text, filler text);
     insert into ticket (v) select 'old' from generate_series(1, 500)`,
  )
  await log.bench.backup(log.vessel)
})
afterEach(async () => worker && killWorker(worker))
afterAll(() => log?.close())

const start = (limit?: number) => void (worker = startWorker(log.bench.environment, limit))

const until = (holds: () => boolean | Promise<boolean>) =>
  vi.waitFor(async () => expect(await holds()).toBe(true), { timeout: 60_000, interval: 50 })
const isRead = async () =>
  log.bench.sql(`select count(*) from pg_replication_slots where active and slot_name = '${(await log.row()).slot}'`) === '1'

/**
 * Kills the worker at the nth thing that it does in its store: that a file comes, is first written, and goes to its place.
 * Later writing of the same file is no step, for the system tells it once or many times, as it happens to be read.
 */
async function killAtStep(nth: number, act: () => void): Promise<void> {
  let seen = 0
  const written = new Set<string>()
  const killed = new Promise<void>((resolve) => {
    const watchers = FOLDERS.map((name) => {
      // Whoever is killed early has not made it yet.
      mkdirSync(join(log.bench.place, name), { recursive: true })
      return watch(join(log.bench.place, name), (event, file) => {
        if (event === 'change' && written.has(file!)) return
        if (event === 'change') written.add(file!)
        if (++seen !== nth) return
        worker!.kill('SIGKILL')
        watchers.forEach((watcher) => watcher.close())
        resolve()
      })
    })
  })
  act()
  await notify(log.bench.engine.db, { about: 'flush', vessel: log.vessel.id, member: log.member })
  await killed
  await killWorker(worker!)
}

describe('a worker that is killed while it follows a log', () => {
  // Each worker begins anew, and waits until it is sure that the one before is gone.
  it('at any step in the store loses no transaction and has none twice', { timeout: 400_000 }, async () => {
    let round = 0
    for (const nth of [1, 2, 4, 6, 8]) {
      start()
      await until(isRead)
      const text = `insert into ticket (v, filler) select 'round ${round++}', repeat(md5(g::text), 30) from generate_series(1, ${ROWS}) g`
      await killAtStep(nth, () => log.bench.sql(`${text}; update ticket set v = 'seen' where id = ${round}`))
    }
    start()
    const moment = log.moment('public.ticket')
    await log.flush()
    await log.holds(moment)
    const query = { table: 'public.ticket', column: null, value: null, xid: null, from: null, to: null, after: null, limit: 1e6 }
    const inserted = (await searchLog(log.bench.engine, log.vessel.id, { ...query, ops: ['insert'] })).changes.map(({ row }) => row![0])
    expect(inserted).toHaveLength(ROWS * round)
    expect(new Set(inserted).size).toBe(inserted.length)
    expect((await searchLog(log.bench.engine, log.vessel.id, { ...query, ops: ['update'] })).changes).toHaveLength(round)
    expect(await log.breaks()).toEqual([])
  })
})

describe('a worker that sleeps while it follows a log', () => {
  it('loses it to another one, which goes on, and leaves it to that when it wakes up', async () => {
    start()
    await until(isRead)
    const sleeper = worker!
    sleeper.kill('SIGSTOP')
    try {
      log.bench.sql(`insert into ticket (v) select 'asleep' from generate_series(1, 50)`)
      start()
      const meanwhile = log.moment('public.ticket')
      await log.flush()
      await log.holds(meanwhile)
      sleeper.kill('SIGCONT')
      for (let i = 0; i < 20; i++) {
        log.bench.sql(`insert into ticket (v) values ('awake'); update ticket set v = 'again' where v = 'awake'`)
        await new Promise((resolve) => setTimeout(resolve, 200))
      }
      const later = log.moment('public.ticket')
      await log.flush()
      await log.holds(later)
      expect((await log.row()).trouble).toBeNull()
      expect(await log.breaks()).toEqual([])
    } finally {
      sleeper.kill('SIGCONT')
      await killWorker(sleeper)
    }
  })
})

describe('a store that takes no more', () => {
  it('makes the log wait at its source, says so, and takes up everything once there is room', async () => {
    start(200_000)
    await until(isRead)
    const before = (await log.row()).position
    log.bench.sql(`insert into ticket (v, filler) select 'full', string_agg(md5((g * 1000 + i)::text), '')
      from generate_series(1, 3000) g, generate_series(1, 20) i group by g`)
    await until(async () => (await log.row()).state === 'stalled')
    const { trouble, position } = await log.row()
    expect(trouble!.what).toMatch(/dry-dock|store/)
    expect(trouble!.touched).toContain('keeps its log')
    expect(position).toBe(before)
    expect(Number(log.bench.sql(`select pg_wal_lsn_diff(pg_current_wal_lsn(), '${before}')`))).toBeGreaterThan(1_000_000)

    const raised = spawn('prlimit', ['--pid', String(worker!.pid), '--fsize=unlimited:unlimited'])
    expect((await once(raised, 'exit'))[0]).toBe(0)
    const moment = log.moment('public.ticket')
    await until(async () => (await log.row()).state === 'following')
    await log.flush()
    await log.holds(moment)
    expect(await log.breaks()).toEqual([])
  })
})
