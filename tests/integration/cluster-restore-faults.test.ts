import { execFileSync } from 'node:child_process'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import type { ClusterWish } from '../../core/cluster/wish'
import { addVessel } from '../../engine/catalog/vessels'
import { tidyUp } from '../../engine/runs/orphans'
import { BoardingBench, check, config, ingress, settled, wish } from '../support/boarding'
import { namespace } from '../support/cluster'
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
    boarding.quay.apply(
      namespace('ending'),
      config('keeps', {}, { metadata: { name: 'keeps', namespace: 'ending', finalizers: ['quellmark.example/keep'] } }),
    )
    boarding.quay.kubectl('delete', 'namespace', 'ending', '--wait=false')
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

  it('may be a worker that is killed while a volume is written: what used it runs again', async () => {
    const worker = startWorker(boarding.bench.environment)
    const id = await boarding.bench.engine.startRun({
      kind: 'restore',
      vessel: boarding.vessel,
      startedBy: 'a test',
      params: { point: boarding.point, wish: wish({ picks: ['quay/boarding/volume/data-manifest-0'] }), reason: 'a test' },
    })
    await boarding.quay.until(() => boarding.quay.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas === 0)

    await killWorker(worker)
    await tidyUp(boarding.bench.engine, true)
    expect(boarding.quay.temporary()).toBe(0)
    expect(await boarding.bench.record(id)).toMatchObject({
      state: 'failed',
      error: { code: 'worker_died', touched: expect.stringContaining('is started again') },
    })
    expect(boarding.quay.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas).toBe(1)
    const { run } = await boarding.bringBack(wish({ picks: ['quay/boarding/volume/data-manifest-0'] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(boarding.quay.temporary()).toBe(0)
    settled(boarding.quay, 'boarding')
  })
})

describe('a torn copy', () => {
  it('is found by the service’s own check on the receipt', async () => {
    const rough = await addVessel(boarding.bench.engine, 'Rough', {
      rules: [{ id: 'all', act: 'take', kind: 'namespace', pattern: 'quay/boarding' }],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 2,
    })
    // As a copy is between the two steps of its writing: the journal is ahead of the index.
    const folder = boarding.quay.volume('data-manifest-0', 'boarding')
    boarding.quay.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', '--replicas=0')
    await boarding.quay.until(() => boarding.quay.json('get', 'pods', '-l', 'app=manifest', '-n', 'boarding').items.length === 0)
    execFileSync('sh', ['-c', 'printf "torn\\n" >> manifest.journal'], { cwd: folder })
    const torn = await boarding.bench.backup(rough)
    const asked = wish(
      { picks: ['quay/boarding/volume/data-manifest-0', 'quay/boarding/apps/StatefulSet/manifest'] },
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
    boarding.quay.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', '--replicas=1')
  })
})
