import { execFileSync } from 'node:child_process'
import { readFileSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { ClusterWish } from '../../core/cluster/wish'
import { addRun, requestCancel } from '../../engine/catalog/runs'
import { addVessel } from '../../engine/catalog/vessels'
import { tidyUp } from '../../engine/runs/orphans'
import { BoardingBench, check, config, ingress, settled, wish } from '../support/boarding'
import { namespace, TestCluster } from '../support/cluster'
import { killWorker, startWorker } from '../support/worker'

// Namespaces that can't come back as they are wished, in part, or were torn when they were copied.

let boarding: BoardingBench

beforeAll(async () => {
  boarding = await BoardingBench.start()
})
afterAll(() => boarding?.close())

describe('what stands in the way', () => {
  it('is told by the plan: changes that can’t be made, versions that are not served, a namespace that is ending, what is left out', async () => {
    const patch = (path: string, value: unknown) => [{ op: 'replace' as const, path, value }]
    const odd = await boarding.plan(wish({}, { changes: [{ kind: 'ConfigMap', name: '*', patch: patch('/data/NOTHING/here', 1) }] }))
    expect(odd.blockers[0]).toMatchObject({ code: 'change_impossible', what: expect.stringContaining('ConfigMap settings') })
    const served = await boarding.plan(wish({}, { changes: [{ kind: 'Deployment', name: '*', patch: patch('/apiVersion', 'apps/v9') }] }))
    expect(served.blockers[0]).toMatchObject({ code: 'not_served', next: 'It serves v1: change /apiVersion, or leave these out.' })
    boarding.pier.apply(
      namespace('ending'),
      config('keeps', {}, { metadata: { name: 'keeps', namespace: 'ending', finalizers: ['quellmark.example/keep'] } }),
    )
    boarding.pier.kubectl('delete', 'namespace', 'ending', '--wait=false')
    const ending = await boarding.plan(wish({}, { namespaces: { boarding: 'ending' } }))
    expect(ending.blockers.map(({ code }) => code)).toContain('namespace_ending')
    boarding.islet.apply(namespace('gates'), { ...ingress, metadata: { name: 'gate', namespace: 'gates' } })
    const without = await boarding.plan(
      wish({}, { source: 'islet', namespaces: { boarding: 'other' }, classes: { berth: 'pontoon' }, secrets: false }),
    )
    expect(without.warnings).toEqual(
      expect.arrayContaining([
        'Deployment scanner needs Secret keys, which is left out and is not there.',
        expect.stringContaining('gate.quellmark.example is answered by the ingress gates/gate already'),
      ]),
    )
    expect(without.operations.find(({ name }) => name === 'keys')).toMatchObject({ verb: 'leave', notes: ['Secrets are left out.'] })
  })

  it('of one object leaves the others, and is on the receipt', async () => {
    const changes: ClusterWish['changes'] = [
      { kind: 'Service', name: 'manifest', patch: [{ op: 'replace', path: '/spec/ports/0/port', value: 'not a port' }] },
      {
        kind: 'StatefulSet',
        name: 'manifest',
        patch: [{ op: 'replace', path: '/spec/template/spec/containers/0/image', value: 'nowhere.example/none:1' }],
      },
    ]
    const asked = wish(
      {},
      { source: 'islet', namespaces: { boarding: 'partly' }, classes: { berth: 'pontoon' }, changes, readyWithinMs: 2000 },
    )
    const { run, of } = await boarding.bringBack(asked)
    expect(run.state).toBe('warned')
    expect((await boarding.bench.messages(run.id)).join()).toContain('StatefulSet manifest is not ready (')
    expect(of('settings')).toMatchObject({ outcome: 'made', equal: true })
  })
})

describe('a cluster that goes away while a volume is filled', () => {
  it('is rid of what was made there for that as soon as it answers, though nobody backs that namespace up', async () => {
    const { bench, islet } = boarding
    const params = {
      point: boarding.point,
      wish: wish({}, { source: 'islet', namespaces: { boarding: 'away' }, classes: { berth: 'pontoon' } }),
      reason: 'a test',
    }
    const id = await addRun(bench.engine, { kind: 'restore', vessel: boarding.vessel, startedBy: 'a test', params })
    expect(
      await bench.performUntil(id, { kind: 'volume' }, async () => {
        await islet.until(() => islet.temporary() > 0)
        await islet.stop()
      }),
    ).toBe(true)
    expect((await bench.record(id)).state).toBe('failed')
    const { port } = islet.process
    const again = await TestCluster.start('islet', { folder: islet.folder, port })
    Object.assign(boarding, { islet: again })
    expect(again.temporary()).toBeGreaterThan(0)
    await tidyUp(bench.engine)
    expect(again.temporary()).toBe(0)
    again.kubectl('delete', 'namespace', 'away')
  })
})

describe('a workload that is put to rest', () => {
  const VOLUME = 'pier/boarding/volume/data-manifest-0'
  const replicas = () => boarding.pier.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas as number
  const begin = () =>
    addRun(boarding.bench.engine, {
      kind: 'restore',
      vessel: boarding.vessel,
      startedBy: 'a test',
      params: { point: boarding.point, wish: wish({ picks: [VOLUME] }), reason: 'a test' },
    })
  const undoes = (id: string) => boarding.bench.engine.db.selectFrom('run_undo').selectAll().where('run_id', '=', id).execute()

  const scale = (to: number) => boarding.pier.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', `--replicas=${to}`)

  it('stays at rest when the worker dies while its volume is half filled, and what was being made goes', async () => {
    const worker = startWorker(boarding.bench.environment)
    const params = { point: boarding.point, wish: wish({ picks: [VOLUME] }), reason: 'a test' }
    const id = await boarding.bench.engine.startRun({ kind: 'restore', vessel: boarding.vessel, startedBy: 'a test', params })
    await boarding.pier.until(async () => (await undoes(id)).some(({ what }) => ((what.half as string[] | undefined) ?? []).length > 0))
    await killWorker(worker)
    await tidyUp(boarding.bench.engine, true)
    expect(boarding.pier.temporary()).toBe(0)
    expect(await boarding.bench.record(id)).toMatchObject({
      state: 'failed',
      error: {
        code: 'worker_died',
        touched: expect.stringContaining('StatefulSet manifest of pier stays at rest: its volume data-manifest-0'),
      },
    })
    expect([replicas(), await undoes(id)]).toEqual([0, []])
    const { run } = await boarding.bringBack(wish({ picks: [VOLUME] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    scale(1)
    settled(boarding.pier, 'boarding')
  })

  it('runs again when the worker dies before its volume was touched; as soon as its cluster answers', async () => {
    const id = await begin()
    const path = '/apis/apps/v1/namespaces/boarding/statefulsets/manifest'
    const what = { source: 'pier', path, label: 'StatefulSet manifest', start: { replicas: 1 }, half: [] }
    const { db } = boarding.bench.engine
    await db
      .updateTable('run')
      .set({ state: 'running', heartbeat_at: new Date(0) })
      .where('id', '=', id)
      .execute()
    const lost = { ...what, path: '/apis/nothing/v1/at-all' }
    await db
      .insertInto('run_undo')
      .values({ run_id: id, ordinal: 0, kind: 'rest', what: JSON.stringify(lost) })
      .execute()
    scale(0)
    await tidyUp(boarding.bench.engine, true)
    const { error } = await boarding.bench.record(id)
    expect([replicas(), error!.touched]).toEqual([0, expect.stringContaining('could not be started again yet')])
    await db
      .updateTable('run_undo')
      .set({ what: JSON.stringify(what) })
      .where('run_id', '=', id)
      .execute()
    await tidyUp(boarding.bench.engine, true)
    expect([replicas(), await undoes(id)]).toEqual([1, []])
    expect((await boarding.bench.messages(id)).at(-1)).toBe('What it had made and not finished is undone now.')
    settled(boarding.pier, 'boarding')
  })

  it('runs again when its return is cancelled before its volume was touched', async () => {
    const id = await begin()
    const cancel = () => requestCancel(boarding.bench.engine, id)
    expect(await boarding.bench.performUntil(id, { kind: 'rest' }, cancel)).toBe(true)
    expect((await boarding.bench.record(id)).state).toBe('cancelled')
    expect(replicas()).toBe(1)
    expect(await undoes(id)).toEqual([])
    settled(boarding.pier, 'boarding')
  })

  it('stays at rest, which is said, when its return ends while its volume is half filled', async () => {
    const id = await begin()
    const cancel = () => requestCancel(boarding.bench.engine, id)
    expect(await boarding.bench.performUntil(id, { kind: 'volume' }, cancel)).toBe(true)
    // Whether it was filled before it was cancelled is not known; it runs just then.
    const isHalf = (await boarding.bench.messages(id)).join().includes('StatefulSet manifest stays at rest: its volume data-manifest-0')
    expect(replicas()).toBe(isHalf ? 0 : 1)
    expect(await undoes(id)).toEqual([])
    const { run } = await boarding.bringBack(wish({ picks: [VOLUME] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    scale(1)
    settled(boarding.pier, 'boarding')
  })

  it('is never touched when what stands can’t be kept first', async () => {
    const folder = boarding.pier.volume('data-manifest-0', 'boarding')
    writeFileSync(join(folder, 'of-now.txt'), 'what nobody may lose')
    const pods = boarding.pier.json('get', 'pods', '-n', 'boarding').items.length as number
    boarding.pier.apply({
      apiVersion: 'v1',
      kind: 'ResourceQuota',
      metadata: { name: 'full', namespace: 'boarding' },
      spec: { hard: { pods: String(pods) } },
    })
    const { run } = await boarding.bringBack(wish({ picks: [VOLUME] }))
    boarding.pier.kubectl('delete', 'resourcequota', 'full', '-n', 'boarding')
    expect(run.error).toMatchObject({ code: 'not_kept', touched: 'Nothing was overwritten: everything is as it was.' })
    expect(readFileSync(join(folder, 'of-now.txt'), 'utf8')).toBe('what nobody may lose')
    expect(replicas()).toBe(1)
    rmSync(join(folder, 'of-now.txt'))
  })
})

describe('a torn copy', () => {
  it('is found by the service’s own check on the receipt', async () => {
    const rough = await addVessel(boarding.bench.engine, 'Rough', {
      rules: [{ id: 'all', act: 'take', kind: 'namespace', pattern: 'pier/boarding' }],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 2,
    })
    // As a copy is between the two steps of its writing: the journal is ahead of the index.
    const folder = boarding.pier.volume('data-manifest-0', 'boarding')
    boarding.pier.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', '--replicas=0')
    await boarding.pier.until(() => boarding.pier.json('get', 'pods', '-l', 'app=manifest', '-n', 'boarding').items.length === 0)
    execFileSync('sh', ['-c', 'printf "torn\\n" >> manifest.journal'], { cwd: folder })
    const torn = await boarding.bench.backup(rough)
    const asked = wish(
      { picks: ['pier/boarding/volume/data-manifest-0', 'pier/boarding/apps/StatefulSet/manifest'] },
      {
        source: 'islet',
        namespaces: { boarding: 'torn' },
        classes: { berth: 'pontoon' },
        changes: [
          {
            kind: 'StatefulSet',
            name: '*',
            patch: [
              { op: 'replace', path: '/spec/replicas', value: 1 },
              { op: 'replace', path: '/spec/template/spec/containers/0/args', value: ['serve', '/elsewhere'] },
            ],
          },
        ],
        after: [check('manifestctl', 'verify', '/data')],
        readyWithinMs: 20_000,
      },
    )
    const { run, receipts } = await boarding.bringBack(asked, 'restore', torn)
    expect(run.state).toBe('warned')
    expect(receipts.at(-1)).toMatchObject({
      path: 'check',
      outcome: 'failed',
      equal: false,
      reason: expect.stringContaining('the index says'),
    })
    boarding.pier.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', '--replicas=1')
  })
})
