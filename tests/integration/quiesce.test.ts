import { existsSync } from 'node:fs'
import { buffer } from 'node:stream/consumers'
import { afterAll, afterEach, beforeAll, describe, expect, it } from 'vitest'
import type { Act, HoldStep } from '../../core/quiesce/sequence'
import { addRun, requestCancel } from '../../engine/catalog/runs'
import { runDetail } from '../../engine/catalog/run-views'
import { programsIn } from '../../engine/holds/outside'
import { openFile } from '../../engine/look/cluster'
import { openPoint } from '../../engine/points/open'
import { perform } from '../../engine/runs/runner'
import { manifestService, namespace, snapshots, storage } from '../support/cluster'
import { exec, freeze, GATE, HeldBench, VOLUME } from '../support/held'
import { killWorker, startWorker } from '../support/worker'

// Members held still, by steps that really hold them; and what may go wrong meanwhile.

let held: HeldBench

beforeAll(async () => {
  held = await HeldBench.start()
})
afterEach(() => held.nothingIsHeld())
afterAll(() => held?.close())

describe('a hold', () => {
  it('makes one consistent point of a namespace and a database, with what was measured', async () => {
    const run = await held.bench.run(
      'backup',
      await held.vessel([held.lock(), freeze({ turn: 1 })], 20_000, [GATE, `db/${held.bench.database}`]),
    )
    expect([run.error, run.state]).toEqual([null, 'done'])
    const { consistency, reached } = await held.pointOf(run)
    expect(consistency).toBe('held together')
    expect(reached.members.map(({ member, consistency: level }) => [member, level]).sort()).toEqual([
      [`db/${held.bench.database}`, 'held together'],
      [GATE, 'held together'],
    ])
    const lines = await held.ledger(run.id)
    expect(lines.map(({ name, state, released_by: by, output }) => [name, state, by, output.includes('=')])).toEqual([
      ['lock', 'released', 'run', true],
      ['freeze', 'released', 'run', true],
    ])
    // The last that was held is released first.
    expect(lines[1]!.released_at!.getTime()).toBeLessThanOrEqual(lines[0]!.released_at!.getTime())
    const steps = await held.bench.engine.db.selectFrom('run_step').selectAll().where('run_id', '=', run.id).execute()
    const released = steps.find(({ kind }) => kind === 'release')!
    const volume = steps.find(({ kind }) => kind === 'volume')!
    // Reading begins when nothing is held any more.
    expect(volume.started_at!.getTime()).toBeGreaterThanOrEqual(released.finished_at!.getTime())
  })

  it('is why no copy is ever torn, and without it some are', async () => {
    const rough = await held.vessel([])
    const gentle = await held.vessel([freeze()])
    let torn = 0
    for (let i = 0; i < 40 && torn === 0; i++) {
      const point = await held.pointOf(await held.bench.run('backup', rough))
      expect(point).toMatchObject({
        consistency: 'as found',
        reached: { why: 'Nothing quiesces it. Its volumes were read from snapshots, each as after a crash.' },
      })
      if (!(await held.isSound(point.id))) torn++
    }
    expect(torn).toBe(1)
    for (let i = 0; i < 8; i++) {
      const point = await held.pointOf(await held.bench.run('backup', gentle))
      expect(point.consistency).toBe('held together')
      expect(await held.isSound(point.id)).toBe(true)
    }
  })

  it('lasts while reading where there are no snapshots', async () => {
    held.cluster.apply(
      namespace('deck'),
      {
        apiVersion: 'v1',
        kind: 'PersistentVolumeClaim',
        metadata: { name: 'data-manifest-0', namespace: 'deck' },
        spec: { accessModes: ['ReadWriteOnce'], storageClassName: 'rope', resources: { requests: { storage: '1Gi' } } },
      },
      manifestService('deck', 'rope'),
    )
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'deck', '--timeout=30s')
    const run = await held.bench.run('backup', await held.vessel([freeze({ member: 'pier/deck' })], 20_000, ['pier/deck']))
    expect([run.error, await held.bench.messages(run.id)]).toEqual([null, ['Consistent together. It was captured while it was held.']])
    const steps = await held.bench.engine.db.selectFrom('run_step').selectAll().where('run_id', '=', run.id).execute()
    const of = (kind: string) => steps.find((step) => step.kind === kind)!
    expect(of('volume').finished_at!.getTime()).toBeLessThanOrEqual(of('release').started_at!.getTime())
    held.cluster.kubectl('delete', 'namespace', 'deck')
  })

  it('hands values from step to step, also to addresses and programs, as far as those are allowed', async () => {
    const of = await held.vessel([])
    const url = (path: string) => ({ kind: 'http' as const, method: 'POST' as const, url: `http://${held.host}${path}`, body: '' })
    const steps = [
      freeze(),
      held.lock({
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
    const run = await held.rehearse({ steps }, of)
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(held.calls).toEqual(['POST /hold?at=true', 'POST /free/abc%201', 'POST /release/abc%201'])
    const tell = (await held.ledger(run.id)).find(({ name }) => name === 'tell')!
    // Nothing of it went through a shell, and nothing of ours is in its environment.
    expect(tell.output).toBe('argument=true; rm -rf /\nsecret=none')
    expect(await programsIn(held.bench.engine.hooks)).toEqual(['hang', 'tell'])
  })

  it('ends a program that takes too long with all that it has started', async () => {
    const hang = freeze({
      act: { kind: 'program', program: 'hang', arguments: [] },
      limitMs: 500,
      onFailure: 'go on',
      release: exec('true'),
    })
    const run = await held.rehearse({ steps: [hang] }, await held.vessel([]))
    const child = Number(/child=(\d+)/.exec((await held.ledger(run.id))[0]!.output!)![1])
    await held.cluster.until(async () => !existsSync(`/proc/${child}`))
  })

  it.each([
    [
      'an address that is not allowed',
      { kind: 'http', method: 'GET', url: 'http://other.example/', body: '' } as Act,
      'Steps may not call other.example.',
    ],
    [
      'a way to an address that is not allowed',
      () => ({ kind: 'http', method: 'GET', url: `http://${held.host}/elsewhere`, body: '' }) as Act,
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
    const member = act.kind === 'sql' ? `db/${held.bench.database}` : GATE
    const run = await held.rehearse(
      {
        steps: [freeze(), freeze({ name: 'odd', member, turn: 1, act, release: exec('true'), limitMs: 500 })].map((step) =>
          step.act.kind === 'sql' ? { ...step, release: { kind: 'sql' as const, statement: 'select 1' } } : step,
        ),
      },
      await held.vessel([]),
    )
    expect(run.state).toBe('failed')
    expect(run.error).toMatchObject({ code: 'hold_failed' })
    expect((run.error as { what: string }).what).toContain(words)
    expect((await held.ledger(run.id))[0]).toMatchObject({ name: 'freeze', state: 'released', released_by: 'run' })
  })

  it('reads a volume from the folder that a step returned, and from no other', async () => {
    const act = exec('sh', '-c', 'mkdir -p /data/frozen && cp /data/manifest.index /data/frozen/ && echo folder=/frozen')
    const reads = [{ volume: VOLUME, folder: '{copy.folder}' }]
    const copy = (more: Partial<HoldStep> = {}) => freeze({ name: 'copy', act, release: exec('rm', '-r', '/data/frozen'), ...more })
    const of = await held.vessel([copy()], 20_000, [GATE], reads)
    const rehearsal = await held.rehearse({ steps: [copy()], reads }, of)
    expect((await held.bench.messages(rehearsal.id)).join()).toContain(`${VOLUME} would be read from frozen.`)
    const run = await held.bench.run('backup', of)
    expect([run.error, run.state]).toEqual([null, 'done'])
    const point = await openPoint(held.bench.engine, (await held.pointOf(run)).id)
    expect(point.members[0]!.manifest.namespaces![0]!.volumes).toMatchObject([{ folder: 'frozen', files: 1, how: 'snapshot' }])
    const { stream } = await openFile(point, VOLUME, 'manifest.index')
    expect(JSON.parse((await buffer(stream)).toString())).toHaveProperty('sum')
    for (const [folder, why] of [
      ['../../etc', 'leads out of it'],
      ['nowhere', 'There is no folder nowhere in it'],
      ['link', 'There is no folder link in it'],
    ]) {
      const script = `mkdir -p /data/frozen && ln -sfn / /data/link && echo folder=${folder}`
      const odd = await held.vessel([copy({ act: exec('sh', '-c', script) })], 20_000, [GATE], reads)
      const failed = await held.bench.run('backup', odd)
      expect(failed.state).toBe('warned')
      expect((await held.bench.messages(failed.id)).join()).toMatch(new RegExp(`${VOLUME} is not covered.*${why}`))
    }
  })

  it('keeps the end of megabytes of output', async () => {
    const run = await held.rehearse(
      { steps: [freeze({ act: exec('sh', '-c', 'yes | head -c 9000000; echo last=1'), release: exec('true') })] },
      await held.vessel([]),
    )
    const [line] = await held.ledger(run.id)
    expect(line!.output.length).toBeLessThanOrEqual(64 * 1024)
    expect(line!.known).toEqual({ freeze: { last: '1' } })
  })
})

describe('a step that fails', () => {
  const broken = (onFailure: HoldStep['onFailure']) =>
    freeze({ name: 'broken', act: exec('false'), release: exec('true'), onFailure, turn: 1 })

  it('stops the run where the definition says so, and there is no point', async () => {
    const run = await held.bench.run('backup', await held.vessel([freeze(), broken('stop')]))
    expect(run).toMatchObject({ state: 'failed', outcome: null, error: { code: 'hold_failed' } })
  })

  it('else counts its member as crash-consistent, and the others stay as they are', async () => {
    const run = await held.bench.run(
      'backup',
      await held.vessel([freeze(), broken('go on'), held.lock({ turn: 2 })], 20_000, [GATE, `db/${held.bench.database}`]),
    )
    expect(run.state).toBe('warned')
    const { consistency, reached } = await held.pointOf(run)
    expect(consistency).toBe('as found')
    expect(reached.members.find(({ member }) => member === GATE)!.why).toBe(
      'Its step “broken” failed: It ended with 1. Its volumes were read from snapshots, each as after a crash.',
    )
    expect(reached.members.find(({ member }) => member !== GATE)!.consistency).toBe('each sound')
  })
})

describe('the budget', () => {
  it('ends the hold before it is reached', async () => {
    const slow = freeze({ name: 'slow', turn: 1, act: exec('sleep', '30'), release: exec('true'), limitMs: 30_000, onFailure: 'go on' })
    const began = Date.now()
    const run = await held.bench.run('backup', await held.vessel([freeze({ onFailure: 'go on' }), slow], 1000))
    expect(run.state).toBe('warned')
    expect(await held.bench.messages(run.id)).toContain('The budget of 1.0 s for holding was over, so everything was released.')
    expect((await held.pointOf(run)).consistency).toBe('as found')
    const [first] = await held.ledger(run.id)
    expect(first!.released_at!.getTime() - first!.begun_at.getTime()).toBeLessThan(3000)
    expect(Date.now() - began).toBeLessThan(25_000)
  })

  it('stops the run when a step was not reached that is to stop it', async () => {
    const slow = freeze({ name: 'slow', turn: 1, act: exec('sleep', '30'), release: exec('true'), limitMs: 30_000 })
    const run = await held.rehearse({ steps: [freeze(), slow], budgetMs: 800 }, await held.vessel([]))
    expect(run.error).toMatchObject({ code: 'hold_failed' })
  })
})

describe('what goes wrong at the source', () => {
  it('a pod that dies while a hook runs holds nothing any more, and is told', async () => {
    const run = await held.bench.engine.startRun({
      kind: 'hold',
      vessel: await held.vessel([]),
      startedBy: 'a test',
      params: { quiesce: { budgetMs: 30_000, steps: [freeze({ act: exec('sleep', '30'), limitMs: 25_000 })] } },
    })
    const worker = startWorker(held.bench.environment)
    await held.cluster.until(async () => (await held.ledger(run)).length === 1)
    held.cluster.kubectl('delete', 'pod', 'manifest-0', '-n', 'boarding', '--grace-period=0', '--force')
    await held.cluster.until(async () => (await held.bench.record(run)).finished_at !== null)
    await killWorker(worker)
    expect((await held.bench.record(run)).error).toMatchObject({ code: 'hold_failed' })
    await held.cluster.until(() => held.cluster.run(['get', 'pod', 'manifest-0', '-n', 'boarding']).status === 0)
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
  })

  it('a snapshot that never comes is not waited for longer than the hold, and the volume is read in place', async () => {
    held.cluster.apply(storage('slow'), snapshots('slow', { stuck: 'true' }), namespace('lagoon'), manifestService('lagoon', 'slow'))
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'lagoon', '--timeout=30s')
    const run = await held.bench.run(
      'backup',
      await held.vessel([freeze({ member: 'pier/lagoon', onFailure: 'go on' })], 1500, ['pier/lagoon']),
    )
    expect(run.state).toBe('warned')
    const messages = (await held.bench.messages(run.id)).join('\n')
    expect(messages).toMatch(/The snapshot of pier\/lagoon\/volume\/data-manifest-0 did not become ready .* It is read in place instead/)
    const point = await held.pointOf(run)
    // Not even as after a crash: its files may be of different moments, and that is said.
    expect(point).toMatchObject({
      consistency: 'in use',
      reached: { why: expect.stringMatching(/The hold ended .* The volume data-manifest-0 was read while programs had it/) },
    })
    held.cluster.kubectl('delete', 'namespace', 'lagoon')
  })
})

describe('a step that only prepares', () => {
  const sync = (more: Partial<HoldStep> = {}) => freeze({ name: 'sync', act: exec('true'), release: null, prepares: true, ...more })
  it('is done before the others, holds nothing, and leaves nothing to release', async () => {
    const run = await held.bench.run('backup', await held.vessel([sync(), freeze({ turn: 1 })]))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect((await held.pointOf(run)).consistency).toBe('held together')
    const { steps } = await runDetail(held.bench.engine, run.id)
    expect(steps.filter(({ kind }) => ['prepare', 'hold', 'release'].includes(kind)).map(({ kind, title }) => `${kind} ${title}`)).toEqual([
      'prepare sync',
      'hold freeze',
      'release freeze',
    ])
    const [first, second] = await held.ledger(run.id)
    expect(first).toMatchObject({ name: 'sync', state: 'released', released_by: 'run' })
    expect(first!.released_at!.getTime()).toBeLessThanOrEqual(second!.begun_at.getTime())
  })
  it('makes no point consistent by itself', async () => {
    const point = await held.pointOf(await held.bench.run('backup', await held.vessel([sync()])))
    expect(point.reached.members[0]!.why).toContain('Nothing quiesces it.')
  })
  it('is told when it fails, and nothing stays of it', async () => {
    const run = await held.bench.run('backup', await held.vessel([sync({ act: exec('false'), onFailure: 'go on' }), freeze({ turn: 1 })]))
    expect(run.state).toBe('warned')
    expect((await held.pointOf(run)).reached.why).toContain('Its step “sync” failed')
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
    const run = await held.bench.run('backup', await held.vessel([down]))
    expect([run.error, run.state]).toEqual([null, 'done'])
    const point = await held.pointOf(run)
    expect(point.consistency).toBe('held together')
    expect(await held.isSound(point.id)).toBe(true)
    expect(held.cluster.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas).toBe(1)
    const kept = (await openPoint(held.bench.engine, point.id)).members[0]!.manifest.namespaces![0]!
    expect(kept.volumes[0]!.files).toBe(2)
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
  })

  it('are stopped by one run at a time, so that nobody takes them for stopped ones', async () => {
    const of = await held.vessel([])
    const down = (name: string): HoldStep =>
      freeze({ name, act: { kind: 'scale', workload: 'StatefulSet', name: 'manifest', replicas: 0 }, release: null, limitMs: 20_000 })
    const sleeps = { kind: 'sql' as const, statement: 'select pg_sleep(60)' }
    const slow = held.lock({ name: 'slow', turn: 1, act: sleeps, release: null, limitMs: 60_000 })
    const quiesce = { steps: [down('first'), slow], budgetMs: 60_000 }
    const first = await addRun(held.bench.engine, { kind: 'hold', vessel: of, startedBy: 'a test', params: { quiesce } })
    const done = perform(held.bench.engine, first)
    await held.cluster.until(async () => (await held.ledger(first)).some(({ name, state }) => name === 'first' && state === 'held'))
    const second = await held.rehearse({ steps: [down('second')] }, of)
    expect(second.error).toMatchObject({ code: 'hold_failed', what: expect.stringContaining('is stopped by another run of') })
    expect(await held.ledger(second.id)).toEqual([])
    await requestCancel(held.bench.engine, first)
    await done
    expect(held.cluster.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas).toBe(1)
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
    const third = await held.rehearse({ steps: [down('third')] }, of)
    expect([third.error, third.state]).toEqual([null, 'done'])
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', 'manifest-0', '-n', 'boarding', '--timeout=30s')
  })

  it('are down only when their last pod has ended, however long that takes', async () => {
    const name = 'stubborn'
    const command = ['sh', '-c', 'trap "" TERM; while true; do sleep 0.1; done']
    held.cluster.apply({
      apiVersion: 'apps/v1',
      kind: 'Deployment',
      metadata: { name, namespace: 'boarding' },
      spec: {
        replicas: 1,
        selector: { matchExpressions: [{ key: 'app', operator: 'In', values: [name] }] },
        template: {
          metadata: { labels: { app: name } },
          spec: { terminationGracePeriodSeconds: 3, containers: [{ name, image: 'kiosk:1', command }] },
        },
      },
    })
    held.cluster.kubectl('wait', '--for=condition=Ready', 'pod', '-l', `app=${name}`, '-n', 'boarding', '--timeout=30s')
    const act = { kind: 'scale' as const, workload: 'Deployment' as const, name, replicas: 0 }
    const run = await held.rehearse({ steps: [freeze({ name, act, release: null, limitMs: 20_000 })] }, await held.vessel([]))
    expect([run.error, run.state]).toEqual([null, 'done'])
    const [line] = await held.ledger(run.id)
    expect(line!.held_at!.getTime() - line!.begun_at.getTime()).toBeGreaterThan(2500)
    held.cluster.kubectl('delete', 'deployment', name, '-n', 'boarding')
  })
})
