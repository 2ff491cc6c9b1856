import { writeFileSync } from 'node:fs'
import { join, resolve } from 'node:path'
import { afterAll, afterEach, beforeAll, describe, expect, inject, it, vi } from 'vitest'
import type { HoldStep } from '../../core/quiesce/sequence'
import { Ledger } from '../../engine/holds/ledger'
import { releaseNow, saidReleased } from '../../engine/holds/release'
import { releaseOverdue } from '../../engine/holds/watchdog'
import { tidyUp } from '../../engine/runs/orphans'
import { exec, freeze, HeldBench } from '../support/held'
import { killWorker, startWorker } from '../support/worker'

// Whatever happens to who holds, everything is released, and it is on record.

/** The service’s own program, as a shell in its pod calls it. */
const MANIFESTCTL = `"${process.execPath}" "${resolve('dist/manifest-service.mjs')}"`

let held: HeldBench

beforeAll(async () => {
  held = await HeldBench.start()
})
afterEach(() => held.nothingIsHeld())
afterAll(() => held?.close())

describe('a release that fails', () => {
  it('is loud, tried again, and on the strip until it is released or said to be', async () => {
    const of = await held.vessel([])
    const stubborn = (name: string): HoldStep => freeze({ name, act: exec('true'), release: exec('ls', join(inject('folder'), name)) })
    const run = await held.rehearse({ steps: [stubborn('later')] }, of)
    expect(run.state).toBe('warned')
    const [open] = await new Ledger(held.bench.engine).open()
    expect(open).toMatchObject({ name: 'later', state: 'stuck', attempts: 1 })
    expect(open!.trouble).toContain('It ended with')
    expect((await held.bench.messages(run.id)).join()).toContain('The release of “later” on pier/boarding failed')
    writeFileSync(join(inject('folder'), 'later'), '')
    await held.cluster.until(async () => (await held.ledger(run.id))[0]!.state === 'released')
    expect((await held.ledger(run.id))[0]).toMatchObject({ released_by: 'watchdog', trouble: null })
    const never = await held.rehearse({ steps: [stubborn('never')] }, of)
    const [line] = await held.ledger(never.id)
    expect(line!.state).toBe('stuck')
    await saidReleased(held.bench.engine, line!.id)
    expect((await held.ledger(never.id))[0]).toMatchObject({ state: 'released', released_by: 'said' })
    await expect(saidReleased(held.bench.engine, line!.id)).rejects.toMatchObject({ code: 'hold_not_stuck' })
  })

  it('is none when what was held is gone', async () => {
    const of = await held.vessel([])
    const gone = freeze({ name: 'gone', release: { ...exec('manifestctl', 'release') } })
    const away = freeze({
      name: 'away',
      turn: 1,
      act: { kind: 'scale', workload: 'StatefulSet', name: 'manifest', replicas: 0 },
      release: null,
      limitMs: 20_000,
    })
    const run = await held.rehearse({ steps: [gone, { ...away, onFailure: 'go on' }] }, of)
    expect(run.error).toBeNull()
    expect((await held.ledger(run.id)).every(({ state }) => state === 'released')).toBe(true)
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
  })
})

describe('whoever holds', () => {
  const slow = (): HoldStep[] => [
    freeze(),
    held.lock(),
    freeze({ name: 'slow', turn: 1, act: exec('sleep', '60'), release: exec('true'), limitMs: 60_000 }),
  ]
  const locked = () =>
    held.bench.server.psql(
      held.bench.database,
      `select count(*) from pg_locks where relation = 'sales.leg'::regclass and mode = 'ShareLock'`,
    )
  /** Both are held, and the slow step has begun, for which there is a line of its own. */
  const untilHeld = (id: string) =>
    held.cluster.until(async () => (await held.ledger(id)).length === 3 && (await held.isHeld()) && locked() === '1')

  it('may be killed: everything is released at the next start, and on record', async () => {
    const worker = startWorker(held.bench.environment)
    const id = await held.bench.engine.startRun({
      kind: 'hold',
      vessel: await held.vessel([]),
      startedBy: 'a test',
      params: { quiesce: { steps: slow(), budgetMs: 60_000 } },
    })
    await untilHeld(id)
    await killWorker(worker)
    expect(await held.isHeld()).toBe(true)
    await tidyUp(held.bench.engine, true)
    expect(await held.isHeld()).toBe(false)
    expect(locked()).toBe('0')
    expect(await held.bench.record(id)).toMatchObject({ state: 'failed', error: { code: 'worker_died' } })
    expect((await held.ledger(id)).map(({ name, state, released_by: by }) => [name, state, by]).sort()).toEqual([
      ['freeze', 'released', 'watchdog'],
      ['lock', 'released', 'watchdog'],
      ['slow', 'released', 'watchdog'],
    ])
    expect((await held.bench.messages(id)).join()).toContain('A watchdog released “freeze” on pier/boarding.')
  })

  it('may be silent: a watchdog of another process releases when the budget is over', async () => {
    const worker = startWorker(held.bench.environment)
    const id = await held.bench.engine.startRun({
      kind: 'hold',
      vessel: await held.vessel([]),
      startedBy: 'a test',
      params: { quiesce: { steps: slow(), budgetMs: 3000 } },
    })
    await untilHeld(id)
    worker.kill('SIGSTOP')
    await held.cluster.until(async () => (await held.ledger(id)).every(({ state }) => state === 'released'))
    expect(await held.isHeld()).toBe(false)
    expect(locked()).toBe('0')
    await killWorker(worker)
    await tidyUp(held.bench.engine, true)
  })

  it('goes on without when a person releases now', async () => {
    const of = await held.vessel(slow().map((step) => ({ ...step, onFailure: 'go on' as const, limitMs: Math.min(step.limitMs, 4000) })))
    const worker = startWorker(held.bench.environment)
    const id = await held.bench.engine.startRun({ kind: 'backup', vessel: of, startedBy: 'a test' })
    await untilHeld(id)
    expect(await new Ledger(held.bench.engine).letGoByOthers(id)).toBe(null)
    const from = Date.now()
    expect(await releaseNow(held.bench.engine, id)).toMatchObject({ failed: 0 })
    expect(await held.isHeld()).toBe(false)
    // What was held until when is told by the clock of whoever captured meanwhile, wherever the catalog's stands.
    const to = Date.now()
    const now = vi.spyOn(Date, 'now').mockImplementation(() => performance.timeOrigin + performance.now() - 3_600_000)
    const letGo = (await new Ledger(held.bench.engine).letGoByOthers(id))! + 3_600_000
    now.mockRestore()
    expect(letGo).toBeGreaterThan(from - 1000)
    expect(letGo).toBeLessThanOrEqual(to)
    await held.cluster.until(async () => (await held.bench.record(id)).finished_at !== null)
    expect((await held.pointOf(await held.bench.record(id))).consistency).toBe('as found')
    await killWorker(worker)
  })

  it('is released again when what began lands after a person has released it', async () => {
    // Nothing tells the command in the pod to stop: it holds after its release.
    const late = freeze({ act: exec('sh', '-c', `sleep 2; ${MANIFESTCTL} hold`), limitMs: 20_000, onFailure: 'go on' })
    const worker = startWorker(held.bench.environment)
    const id = await held.bench.engine.startRun({
      kind: 'hold',
      vessel: await held.vessel([]),
      startedBy: 'a test',
      params: { quiesce: { steps: [late], budgetMs: 30_000 } },
    })
    await held.cluster.until(async () => (await held.ledger(id)).length === 1)
    await releaseNow(held.bench.engine, id)
    await held.cluster.until(async () => (await held.bench.record(id)).finished_at !== null)
    await killWorker(worker)
    expect((await held.ledger(id)).map(({ state }) => state)).toEqual(['released'])
    expect(await held.isHeld()).toBe(false)
  })

  it('releases by itself while the catalog is away, and writes it down afterwards', async () => {
    const catalog = new URL(held.bench.environment.VESSEL_CATALOG!).pathname.slice(1)
    const admin = (sql: string) => held.bench.server.psql('postgres', sql)
    const worker = startWorker(held.bench.environment)
    const id = await held.bench.engine.startRun({
      kind: 'hold',
      vessel: await held.vessel([]),
      startedBy: 'a test',
      params: {
        quiesce: {
          steps: [
            freeze(),
            freeze({ name: 'slow', turn: 1, act: exec('sleep', '60'), release: exec('true'), limitMs: 60_000, onFailure: 'go on' }),
          ],
          budgetMs: 4000,
        },
      },
    })
    await held.cluster.until(async () => (await held.ledger(id)).length === 2 && (await held.isHeld()))
    admin(
      `alter database ${catalog} allow_connections false; select pg_terminate_backend(pid) from pg_stat_activity where datname = '${catalog}'`,
    )
    try {
      await held.cluster.until(async () => !(await held.isHeld()))
      expect(worker.exitCode).toBeNull()
    } finally {
      admin(`alter database ${catalog} allow_connections true`)
    }
    await held.cluster.until(async () => (await held.ledger(id)).every(({ state }) => state === 'released'))
    await held.cluster.until(async () => (await held.bench.record(id)).finished_at !== null)
    expect((await held.bench.record(id)).error).toBeNull()
    await killWorker(worker)
  })

  it('may be told anything by a release: what can’t be kept is replaced, and what is too much is cut', async () => {
    const odd = exec('sh', '-c', `${MANIFESTCTL} release; head -c 300000 /dev/zero; printf 'a\\000b\\377'`)
    const run = await held.rehearse({ steps: [freeze({ release: odd })] }, await held.vessel([]))
    const [line] = await held.ledger(run.id)
    expect(line).toMatchObject({ state: 'released', trouble: null })
    expect(line!.release_output!.length).toBeLessThan(70_000)
    expect(line!.release_output).toContain('a\uFFFDb\uFFFD')
    const steps = [
      held.lock({ act: { kind: 'sql', statement: "select repeat('x', 5000000) as much from generate_series(1, 3)" }, release: null }),
    ]
    const much = await held.rehearse({ steps }, await held.vessel([]))
    expect((await held.ledger(much.id))[0]!.output!.length).toBeLessThan(70_000)
  })

  it('leaves nothing that a watchdog would have to do', async () => {
    await releaseOverdue(held.bench.engine)
    expect(await new Ledger(held.bench.engine).overdue()).toEqual([])
  })
})
