import { execFileSync } from 'node:child_process'
import { once } from 'node:events'
import { chmodSync, mkdirSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { join } from 'node:path'
import { buffer } from 'node:stream/consumers'
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest'
import type { Consistency, Reached } from '../../core/quiesce/consistency'
import type { Act, HoldStep } from '../../core/quiesce/sequence'
import { addSource } from '../../engine/catalog/sources'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { Ledger } from '../../engine/holds/ledger'
import { programsIn } from '../../engine/holds/outside'
import { releaseNow, saidReleased } from '../../engine/holds/release'
import { releaseOverdue } from '../../engine/holds/watchdog'
import { tidyUp } from '../../engine/runs/runner'
import { openFile } from '../../engine/look/cluster'
import { openPoint } from '../../engine/points/open'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { ClusterClient } from '../../engine/sources/kubernetes/client'
import { execute, Tail } from '../../engine/sources/kubernetes/exec'
import { manifestService, namespace, snapshots, storage, TestCluster } from '../support/cluster'
import { Workbench } from '../support/engine'
import { killWorker, startWorker } from '../support/worker'

// Members held still, by steps that really hold them; and everything that may go wrong meanwhile.

let cluster: TestCluster
let bench: Workbench
let calls: string[] = []
let server: Server
let host: string

const GATE = 'quay/boarding'
const exec = (...command: string[]): Act => ({ kind: 'exec', selector: 'app=manifest', container: '', pods: 'one', active: '', command })
const freeze = (more: Partial<HoldStep> = {}): HoldStep => ({
  id: more.name ?? 'freeze',
  name: 'freeze',
  member: GATE,
  turn: 0,
  act: exec('manifestctl', 'hold'),
  limitMs: 5000,
  onFailure: 'stop',
  release: exec('manifestctl', 'release'),
  ...more,
})
const lock = (more: Partial<HoldStep> = {}): HoldStep => ({
  ...freeze(),
  id: 'lock',
  name: 'lock',
  member: `db/${bench.database}`,
  act: { kind: 'sql', statement: 'begin; lock table sales.leg in share mode; select count(*) as legs from sales.leg' },
  release: { kind: 'sql', statement: 'commit' },
  ...more,
})
let count = 0
const vessel = (steps: HoldStep[], budgetMs = 20_000, patterns = [GATE]): Promise<Vessel> =>
  addVessel(bench.engine, `Gate ${++count}`, {
    rules: patterns.map((pattern) => ({ id: pattern, act: 'take', kind: pattern.startsWith('quay') ? 'namespace' : 'database', pattern })),
    store: 'dry-dock',
    promises: { couldLose: null, backWithin: null },
    readers: 2,
    still: { steps, budgetMs },
  })
const pointOf = async (run: { outcome: unknown }) => {
  const { point } = run.outcome as { point: string }
  const row = await bench.engine.db.selectFrom('point').select(['consistency', 'reached']).where('id', '=', point).executeTakeFirstOrThrow()
  return { id: point, consistency: row.consistency as Consistency, reached: row.reached as Reached }
}
const ledger = (runId: string) => new Ledger(bench.engine).ofRun(runId)
async function isHeld(): Promise<boolean> {
  const client = new ClusterClient({ name: 'quay', ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
  try {
    const out = new Tail()
    const target = { namespace: 'boarding', pod: 'manifest-0', container: 'service' }
    expect((await execute(client, target, ['manifestctl', 'status'], out, AbortSignal.timeout(10_000))).code).toBe(0)
    return out.text.includes('held=true')
  } finally {
    client.close()
  }
}
const rehearse = (still: { steps: HoldStep[]; budgetMs?: number }, of: Vessel) =>
  bench.run('still', of, { still: { budgetMs: 20_000, ...still } })

/** Whether journal and index of a point agree, by the service's own check. */
async function isSound(point: string): Promise<boolean> {
  const folder = join(inject('folder'), `check-${point}`)
  mkdirSync(folder)
  const opened = await openPoint(bench.engine, point)
  for (const file of ['manifest.journal', 'manifest.index']) {
    const { stream } = await openFile(opened, 'quay/boarding/volume/data-manifest-0', file)
    writeFileSync(join(folder, file), await buffer(stream))
  }
  try {
    execFileSync('node', ['dist/manifest-service.mjs', 'check', folder])
    return true
  } catch {
    return false
  }
}

beforeAll(async () => {
  const programs = join(inject('folder'), 'hook-programs')
  mkdirSync(programs)
  const program = (name: string, text: string) => {
    writeFileSync(join(programs, name), `#!/bin/sh\n${text}\n`)
    chmodSync(join(programs, name), 0o755)
  }
  program('tell', 'echo "argument=$1"; echo "secret=${VESSEL_CATALOG:-none}"')
  program('hang', 'sleep 60')
  symlinkSync('/bin/sh', join(programs, 'shell'))
  server = createServer((request, response) => {
    calls.push(`${request.method} ${request.url}`)
    if (request.url === '/elsewhere') response.writeHead(302, { location: 'http://other.example/' })
    response.end('token=abc 1\n')
  })
  server.listen(0, '127.0.0.1')
  await once(server, 'listening')
  host = `127.0.0.1:${(server.address() as AddressInfo).port}`
  ;[cluster, bench] = await Promise.all([
    TestCluster.start('quay'),
    Workbench.open('create schema sales; create table sales.leg as select generate_series(1, 100) as id', {
      hosts: [host],
      folder: programs,
    }),
  ])
  cluster.apply(storage('berth'), storage('rope'), snapshots('berth'), namespace('boarding'), manifestService('boarding', 'berth'))
  cluster.kubectl('wait', '--for=condition=Ready', 'pod', '--all', '-n', 'boarding', '--timeout=30s')
  await addSource(bench.engine, { name: 'quay', ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
})
afterEach(async () => {
  // Whatever a test did, nothing stays held.
  expect(await new Ledger(bench.engine).open()).toEqual([])
  expect(await isHeld()).toBe(false)
  calls = []
})
afterAll(async () => {
  await bench?.close()
  await cluster?.stop()
  server?.close()
})

describe('a hold', () => {
  it('makes one consistent point of a namespace and a database, with what was measured', async () => {
    const run = await bench.run('backup', await vessel([lock(), freeze({ turn: 1 })], 20_000, [GATE, `db/${bench.database}`]))
    expect([run.error, run.state]).toEqual([null, 'done'])
    const { consistency, reached } = await pointOf(run)
    expect(consistency).toBe('held together')
    expect(reached.members.map(({ member, consistency: own }) => [member, own]).sort()).toEqual([
      [`db/${bench.database}`, 'held together'],
      [GATE, 'held together'],
    ])
    const lines = await ledger(run.id)
    expect(lines.map(({ name, state, released_by: by, output }) => [name, state, by, output.includes('=')])).toEqual([
      ['lock', 'released', 'run', true],
      ['freeze', 'released', 'run', true],
    ])
    // The last that was held is released first.
    expect(lines[1]!.released_at!.getTime()).toBeLessThanOrEqual(lines[0]!.released_at!.getTime())
    const steps = await bench.engine.db.selectFrom('run_step').selectAll().where('run_id', '=', run.id).execute()
    const held = steps.find(({ kind }) => kind === 'release')!
    const volume = steps.find(({ kind }) => kind === 'volume')!
    // Reading begins when nothing is held any more.
    expect(volume.started_at!.getTime()).toBeGreaterThanOrEqual(held.finished_at!.getTime())
  })

  it('is why no copy is ever torn, and without it some are', async () => {
    const rough = await vessel([])
    const gentle = await vessel([freeze()])
    let torn = 0
    for (let i = 0; i < 40 && torn === 0; i++) {
      const point = await pointOf(await bench.run('backup', rough))
      expect(point).toMatchObject({ consistency: 'as found', reached: { why: 'Nothing holds it still. It is as after a crash.' } })
      if (!(await isSound(point.id))) torn++
    }
    expect(torn).toBe(1)
    for (let i = 0; i < 8; i++) {
      const point = await pointOf(await bench.run('backup', gentle))
      expect(point.consistency).toBe('held together')
      expect(await isSound(point.id)).toBe(true)
    }
  })

  it('lasts while reading where there are no snapshots', async () => {
    cluster.apply(
      namespace('deck'),
      {
        apiVersion: 'v1',
        kind: 'PersistentVolumeClaim',
        metadata: { name: 'data-manifest-0', namespace: 'deck' },
        spec: { accessModes: ['ReadWriteOnce'], storageClassName: 'rope', resources: { requests: { storage: '1Gi' } } },
      },
      manifestService('deck', 'rope'),
    )
    cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'deck', '--timeout=30s')
    const run = await bench.run('backup', await vessel([freeze({ member: 'quay/deck' })], 20_000, ['quay/deck']))
    expect([run.error, await bench.messages(run.id)]).toEqual([null, ['Held together. It was captured while it was held.']])
    const steps = await bench.engine.db.selectFrom('run_step').selectAll().where('run_id', '=', run.id).execute()
    const of = (kind: string) => steps.find((step) => step.kind === kind)!
    expect(of('volume').finished_at!.getTime()).toBeLessThanOrEqual(of('release').started_at!.getTime())
    cluster.kubectl('delete', 'namespace', 'deck')
  })

  it('hands values from step to step, also to addresses and programs, as far as those are allowed', async () => {
    const of = await vessel([])
    const url = (path: string) => ({ kind: 'http' as const, method: 'POST' as const, url: `http://${host}${path}`, body: '' })
    const steps = [
      freeze(),
      lock({
        turn: 1,
        act: { kind: 'sql', statement: 'select {freeze.entries} as entries, {freeze.held} as held' },
        release: { kind: 'sql', statement: 'select 1' },
      }),
      freeze({
        name: 'tell',
        turn: 2,
        act: { kind: 'program', program: 'tell', arguments: ['{lock.held}; rm -rf /'] },
        release: url('/free/{call.token}'),
      }),
      freeze({ name: 'call', turn: 1, act: url('/hold?at={freeze.held}'), release: url('/release/{call.token}') }),
    ]
    const run = await rehearse({ steps }, of)
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(calls).toEqual(['POST /hold?at=true', 'POST /free/abc%201', 'POST /release/abc%201'])
    const tell = (await ledger(run.id)).find(({ name }) => name === 'tell')!
    // Nothing of it went through a shell, and nothing of ours is in its environment.
    expect(tell.output).toBe('argument=true; rm -rf /\nsecret=none')
    expect(await programsIn(bench.engine.hooks)).toEqual(['hang', 'tell'])
  })

  it.each([
    [
      'an address that is not allowed',
      { kind: 'http', method: 'GET', url: 'http://other.example/', body: '' } as Act,
      'Steps may not call other.example.',
    ],
    [
      'a way to an address that is not allowed',
      () => ({ kind: 'http', method: 'GET', url: `http://${host}/elsewhere`, body: '' }) as Act,
      'answered 302.',
    ],
    ['a program that is a link', { kind: 'program', program: 'shell', arguments: [] } as Act, 'There is no program shell'],
    ['a program that hangs', { kind: 'program', program: 'hang', arguments: [] } as Act, 'It had not ended after 0.5 s and was killed.'],
    ['a command that hangs', exec('sleep', '60'), 'It had not ended after 0.5 s.'],
    ['a command that fails', exec('ls', '/nowhere-at-all'), 'It ended with 2: '],
    ['a command that is not there', exec('no-such-program'), 'It could not be started'],
    ['a statement that takes too long', { kind: 'sql', statement: 'select pg_sleep(60)' } as Act, 'It was not done within 0.5 s'],
    ['a statement that is wrong', { kind: 'sql', statement: 'selec 1' } as Act, 'The server answered: syntax error'],
    ['a label that no pod has', { ...exec('true'), selector: 'app=none' } as Act, 'No pod with app=none runs in boarding'],
    [
      'no passive pod',
      { ...exec('true'), pods: 'passive', active: 'app=manifest' } as Act,
      'Every pod with app=manifest in boarding is an active one',
    ],
    ['a container that is not there', { ...exec('true'), container: 'sidecar' } as Act, 'has no container sidecar; it has service.'],
  ])('ends at %s, with everything released and the reason on record', async (_, given, words) => {
    const act = typeof given === 'function' ? given() : given
    const member = act.kind === 'sql' ? `db/${bench.database}` : GATE
    const run = await rehearse(
      {
        steps: [freeze(), freeze({ name: 'odd', member, turn: 1, act, release: exec('true'), limitMs: 500 })].map((step) =>
          step.act.kind === 'sql' ? { ...step, release: { kind: 'sql' as const, statement: 'select 1' } } : step,
        ),
      },
      await vessel([]),
    )
    expect(run.state).toBe('failed')
    expect(run.error).toMatchObject({ code: 'hold_failed' })
    expect((run.error as { what: string }).what).toContain(words)
    expect((await ledger(run.id))[0]).toMatchObject({ name: 'freeze', state: 'released', released_by: 'run' })
  })

  it('keeps the end of megabytes of output', async () => {
    const run = await rehearse(
      { steps: [freeze({ act: exec('sh', '-c', 'yes | head -c 9000000; echo last=1'), release: exec('true') })] },
      await vessel([]),
    )
    const [line] = await ledger(run.id)
    expect(line!.output.length).toBeLessThanOrEqual(64 * 1024)
    expect(line!.known).toEqual({ freeze: { last: '1' } })
  })
})

describe('a step that fails', () => {
  const broken = (onFailure: HoldStep['onFailure']) =>
    freeze({ name: 'broken', act: exec('false'), release: exec('true'), onFailure, turn: 1 })

  it('stops the run where the definition says so, and there is no point', async () => {
    const run = await bench.run('backup', await vessel([freeze(), broken('stop')]))
    expect(run).toMatchObject({ state: 'failed', outcome: null, error: { code: 'hold_failed' } })
  })

  it('else counts its member as crash-consistent, and the others stay as they are', async () => {
    const run = await bench.run(
      'backup',
      await vessel([freeze(), broken('go on'), lock({ turn: 2 })], 20_000, [GATE, `db/${bench.database}`]),
    )
    expect(run.state).toBe('warned')
    const { consistency, reached } = await pointOf(run)
    expect(consistency).toBe('as found')
    expect(reached.members.find(({ member }) => member === GATE)!.why).toBe(
      'Its step “broken” failed: It ended with 1. It is as after a crash.',
    )
    expect(reached.members.find(({ member }) => member !== GATE)!.consistency).toBe('each sound')
  })
})

describe('the budget', () => {
  it('ends the hold before it is reached', async () => {
    const slow = freeze({ name: 'slow', turn: 1, act: exec('sleep', '30'), release: exec('true'), limitMs: 30_000, onFailure: 'go on' })
    const began = Date.now()
    const run = await bench.run('backup', await vessel([freeze({ onFailure: 'go on' }), slow], 1000))
    expect(run.state).toBe('warned')
    expect(await bench.messages(run.id)).toContain('The budget of 1.0 s for holding was over, so everything was released.')
    expect((await pointOf(run)).consistency).toBe('as found')
    const [first] = await ledger(run.id)
    expect(first!.released_at!.getTime() - first!.begun_at.getTime()).toBeLessThan(3000)
    expect(Date.now() - began).toBeLessThan(25_000)
  })

  it('stops the run when a step was not reached that is to stop it', async () => {
    const slow = freeze({ name: 'slow', turn: 1, act: exec('sleep', '30'), release: exec('true'), limitMs: 30_000 })
    const run = await rehearse({ steps: [freeze(), slow], budgetMs: 800 }, await vessel([]))
    expect(run.error).toMatchObject({ code: 'hold_failed' })
  })
})

describe('what goes wrong at the source', () => {
  it('a pod that dies while a hook runs holds nothing any more, and is told', async () => {
    const run = await bench.engine.startRun({
      kind: 'still',
      vessel: await vessel([]),
      startedBy: 'a test',
      params: { still: { budgetMs: 30_000, steps: [freeze({ act: exec('sleep', '30'), limitMs: 25_000 })] } },
    })
    const worker = startWorker(bench.environment)
    await cluster.until(async () => (await ledger(run)).length === 1)
    cluster.kubectl('delete', 'pod', 'manifest-0', '-n', 'boarding', '--grace-period=0', '--force')
    await cluster.until(async () => (await bench.record(run)).finished_at !== null)
    await killWorker(worker)
    expect((await bench.record(run)).error).toMatchObject({ code: 'hold_failed' })
    await cluster.until(() => cluster.run(['get', 'pod', 'manifest-0', '-n', 'boarding']).status === 0)
    cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
  })

  it('a snapshot that never comes is not waited for longer than the hold, and the volume is read in place', async () => {
    cluster.apply(storage('slow'), snapshots('slow', { stuck: 'true' }), namespace('lagoon'), manifestService('lagoon', 'slow'))
    cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'lagoon', '--timeout=30s')
    const run = await bench.run('backup', await vessel([freeze({ member: 'quay/lagoon', onFailure: 'go on' })], 1500, ['quay/lagoon']))
    expect(run.state).toBe('warned')
    const messages = (await bench.messages(run.id)).join('\n')
    expect(messages).toMatch(/The snapshot of quay\/lagoon\/volume\/data-manifest-0 did not become ready .* It is read in place instead/)
    const point = await pointOf(run)
    expect(point).toMatchObject({ consistency: 'as found', reached: { why: expect.stringContaining('The hold ended') } })
    cluster.kubectl('delete', 'namespace', 'lagoon')
  })
})

describe('workloads', () => {
  it('are scaled down, and back to what they were', async () => {
    const down: HoldStep = freeze({
      name: 'down',
      act: { kind: 'scale', workload: 'StatefulSet', name: 'manifest', replicas: 0 },
      release: null,
      limitMs: 20_000,
    })
    const run = await bench.run('backup', await vessel([down]))
    expect([run.error, run.state]).toEqual([null, 'done'])
    const point = await pointOf(run)
    expect(point.consistency).toBe('held together')
    expect(await isSound(point.id)).toBe(true)
    expect(cluster.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas).toBe(1)
    const kept = (await openPoint(bench.engine, point.id)).members[0]!.manifest.namespaces![0]!
    expect(kept.volumes[0]!.files).toBe(2)
    cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
  })
})

describe('a release that fails', () => {
  it('is loud, tried again, and on the strip until it is released or said to be', async () => {
    const of = await vessel([])
    const stubborn = (name: string): HoldStep => freeze({ name, act: exec('true'), release: exec('ls', join(inject('folder'), name)) })
    const run = await rehearse({ steps: [stubborn('later')] }, of)
    expect(run.state).toBe('warned')
    const [open] = await new Ledger(bench.engine).open()
    expect(open).toMatchObject({ name: 'later', state: 'stuck', attempts: 1 })
    expect(open!.trouble).toContain('It ended with')
    expect((await bench.messages(run.id)).join()).toContain('The release of “later” on quay/boarding failed')
    writeFileSync(join(inject('folder'), 'later'), '')
    await cluster.until(async () => (await ledger(run.id))[0]!.state === 'released')
    expect((await ledger(run.id))[0]).toMatchObject({ released_by: 'watchdog', trouble: null })
    const never = await rehearse({ steps: [stubborn('never')] }, of)
    const [line] = await ledger(never.id)
    expect(line!.state).toBe('stuck')
    await saidReleased(bench.engine, line!.id)
    expect((await ledger(never.id))[0]).toMatchObject({ state: 'released', released_by: 'said' })
    await expect(saidReleased(bench.engine, line!.id)).rejects.toMatchObject({ code: 'hold_not_stuck' })
  })

  it('is none when what was held is gone', async () => {
    const of = await vessel([])
    const gone = freeze({ name: 'gone', release: { ...exec('manifestctl', 'release') } })
    const away = freeze({
      name: 'away',
      turn: 1,
      act: { kind: 'scale', workload: 'StatefulSet', name: 'manifest', replicas: 0 },
      release: null,
      limitMs: 20_000,
    })
    const run = await rehearse({ steps: [gone, { ...away, onFailure: 'go on' }] }, of)
    expect(run.error).toBeNull()
    expect((await ledger(run.id)).every(({ state }) => state === 'released')).toBe(true)
    cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
  })
})

describe('whoever holds', () => {
  const slow = (): HoldStep[] => [
    freeze(),
    lock(),
    freeze({ name: 'slow', turn: 1, act: exec('sleep', '60'), release: exec('true'), limitMs: 60_000 }),
  ]
  const locked = () =>
    bench.server.psql(bench.database, `select count(*) from pg_locks where relation = 'sales.leg'::regclass and mode = 'ShareLock'`)
  const untilHeld = () => cluster.until(async () => (await isHeld()) && locked() === '1')

  it('may be killed: everything is released at the next start, and on record', async () => {
    const worker = startWorker(bench.environment)
    const id = await bench.engine.startRun({
      kind: 'still',
      vessel: await vessel([]),
      startedBy: 'a test',
      params: { still: { steps: slow(), budgetMs: 60_000 } },
    })
    await untilHeld()
    await killWorker(worker)
    expect(await isHeld()).toBe(true)
    await tidyUp(bench.engine, true)
    expect(await isHeld()).toBe(false)
    expect(locked()).toBe('0')
    expect(await bench.record(id)).toMatchObject({ state: 'failed', error: { code: 'worker_died' } })
    expect((await ledger(id)).map(({ name, state, released_by: by }) => [name, state, by]).sort()).toEqual([
      ['freeze', 'released', 'watchdog'],
      ['lock', 'released', 'watchdog'],
      ['slow', 'released', 'watchdog'],
    ])
    expect((await bench.messages(id)).join()).toContain('A watchdog released “freeze” on quay/boarding.')
  })

  it('may be silent: a watchdog of another process releases when the budget is over', async () => {
    const worker = startWorker(bench.environment)
    const id = await bench.engine.startRun({
      kind: 'still',
      vessel: await vessel([]),
      startedBy: 'a test',
      params: { still: { steps: slow(), budgetMs: 3000 } },
    })
    await untilHeld()
    worker.kill('SIGSTOP')
    await cluster.until(async () => (await ledger(id)).every(({ state }) => state === 'released'))
    expect(await isHeld()).toBe(false)
    expect(locked()).toBe('0')
    await killWorker(worker)
    await tidyUp(bench.engine, true)
  })

  it('goes on without when a person releases now', async () => {
    const of = await vessel(slow().map((step) => ({ ...step, onFailure: 'go on' as const, limitMs: Math.min(step.limitMs, 4000) })))
    const worker = startWorker(bench.environment)
    const id = await bench.engine.startRun({ kind: 'backup', vessel: of, startedBy: 'a test' })
    await untilHeld()
    expect(await releaseNow(bench.engine, id)).toMatchObject({ failed: 0 })
    expect(await isHeld()).toBe(false)
    await cluster.until(async () => (await bench.record(id)).finished_at !== null)
    expect((await pointOf(await bench.record(id))).consistency).toBe('as found')
    await killWorker(worker)
  })

  it('leaves nothing that a watchdog would have to do', async () => {
    await releaseOverdue(bench.engine)
    expect(await new Ledger(bench.engine).overdue()).toEqual([])
  })
})
