import { execFileSync } from 'node:child_process'
import { mkdirSync, readdirSync, readFileSync, statSync, symlinkSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { clusterWishOf, type ClusterWish } from '../../core/cluster/wish'
import { wishOf, type Wish } from '../../core/restore/wish'
import { savedRestore, saveRestore } from '../../engine/catalog/saved-restores'
import { addSource } from '../../engine/catalog/sources'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { openPoint } from '../../engine/points/open'
import { planAll } from '../../engine/runs/restore-plan'
import { takeBack } from '../../engine/runs/take-back'
import { tidyUp } from '../../engine/runs/runner'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { manifestService, namespace, snapshots, storage, TestCluster, type Body } from '../support/cluster'
import { Workbench } from '../support/engine'
import { killWorker, startWorker } from '../support/worker'

// Namespaces brought back: where they were, under other names, on another cluster; and proven.

let quay: TestCluster
let islet: TestCluster
let bench: Workbench
let vessel: Vessel
let point: string

const config = (name: string, data: Record<string, string>, more: Body = {}): Body => ({
  apiVersion: 'v1',
  kind: 'ConfigMap',
  metadata: { name, namespace: 'boarding' },
  data,
  ...more,
})
const scanner: Body = {
  apiVersion: 'apps/v1',
  kind: 'Deployment',
  metadata: { name: 'scanner', namespace: 'boarding' },
  spec: {
    replicas: 2,
    selector: { matchLabels: { app: 'scanner' } },
    template: {
      metadata: { labels: { app: 'scanner' } },
      spec: {
        serviceAccountName: 'gatekeeper',
        containers: [
          {
            name: 'scanner',
            image: 'images.quellmark.example/boarding/gate-scanner:4.0',
            envFrom: [{ configMapRef: { name: 'settings' } }, { secretRef: { name: 'keys' } }],
          },
        ],
      },
    },
  },
}
const things: Body[] = [
  config('settings', { LANES: '4' }),
  { apiVersion: 'v1', kind: 'Secret', metadata: { name: 'keys', namespace: 'boarding' }, data: { KEY: 'c2VjcmV0' } },
  { apiVersion: 'v1', kind: 'ServiceAccount', metadata: { name: 'gatekeeper', namespace: 'boarding' } },
  {
    apiVersion: 'rbac.authorization.k8s.io/v1',
    kind: 'Role',
    metadata: { name: 'reader', namespace: 'boarding' },
    rules: [{ apiGroups: [''], resources: ['configmaps'], verbs: ['get'] }],
  },
  {
    apiVersion: 'rbac.authorization.k8s.io/v1',
    kind: 'RoleBinding',
    metadata: { name: 'reads', namespace: 'boarding' },
    roleRef: { apiGroup: 'rbac.authorization.k8s.io', kind: 'Role', name: 'reader' },
    subjects: [{ kind: 'ServiceAccount', name: 'gatekeeper', namespace: 'boarding' }],
  },
  {
    apiVersion: 'v1',
    kind: 'Service',
    metadata: { name: 'manifest', namespace: 'boarding' },
    spec: { type: 'NodePort', selector: { app: 'manifest' }, ports: [{ port: 80 }] },
  },
  {
    apiVersion: 'networking.k8s.io/v1',
    kind: 'Ingress',
    metadata: { name: 'gate', namespace: 'boarding' },
    spec: {
      rules: [
        {
          host: 'gate.quellmark.example',
          http: { paths: [{ path: '/', pathType: 'Prefix', backend: { service: { name: 'manifest', port: { number: 80 } } } }] },
        },
      ],
    },
  },
  scanner,
  { apiVersion: 'lanes.quellmark.example/v1', kind: 'Lane', metadata: { name: 'foot', namespace: 'boarding' }, spec: { width: 2 } },
]
const definition: Body = {
  apiVersion: 'apiextensions.k8s.io/v1',
  kind: 'CustomResourceDefinition',
  metadata: { name: 'lanes.lanes.quellmark.example' },
  spec: {
    group: 'lanes.quellmark.example',
    scope: 'Namespaced',
    names: { kind: 'Lane', plural: 'lanes', singular: 'lane' },
    versions: [{ name: 'v1', served: true, storage: true, schema: { openAPIV3Schema: { type: 'object' } } }],
  },
}
const check = (...command: string[]): ClusterWish['after'][number] => ({
  name: 'check',
  act: { kind: 'exec', selector: 'app=manifest', container: '', pods: 'one', active: '', command },
  limitMs: 10_000,
})

const wish = (given: Partial<Omit<Wish, 'cluster'>>, cluster: Partial<ClusterWish> = {}): Wish =>
  wishOf({ picks: ['quay/boarding'], ...given, cluster: clusterWishOf(cluster) })
const plan = async (asked: Wish) => (await planAll(bench.engine, await openPoint(bench.engine, point), asked)).namespaces[0]!.plan
async function bringBack(asked: Wish, kind: 'restore' | 'rehearsal' = 'restore', from = point) {
  const run = await bench.run(kind, vessel, { point: from, wish: asked, reason: 'a test' })
  const receipts = await bench.engine.db.selectFrom('receipt').selectAll().where('run_id', '=', run.id).orderBy('ordinal').execute()
  return { run, receipts, of: (name: string) => receipts.find(({ target }) => target.endsWith(`/${name}`))! }
}
const settled = (cluster: TestCluster, home: string) =>
  cluster.kubectl('wait', '--for=condition=Ready', 'pod', '--all', '-n', home, '--timeout=40s')

beforeAll(async () => {
  ;[quay, islet, bench] = await Promise.all([TestCluster.start('quay'), TestCluster.start('islet'), Workbench.open()])
  quay.apply(storage('berth'), snapshots('berth'), definition)
  quay.apply(namespace('boarding', { team: 'gates' }), manifestService('boarding', 'berth'), ...things)
  islet.apply(storage('pontoon'), snapshots('pontoon'))
  settled(quay, 'boarding')
  const folder = quay.volume('data-manifest-0', 'boarding')
  mkdirSync(join(folder, 'archive', 'november'), { recursive: true })
  writeFileSync(join(folder, 'archive', 'november', '01.txt'), 'one\n', { mode: 0o640 })
  writeFileSync(join(folder, 'archive', 'november', '02.txt'), 'two\n')
  writeFileSync(join(folder, 'large.bin'), Buffer.alloc(9_000_000, 'manifest '))
  symlinkSync('november/01.txt', join(folder, 'archive', 'first'))
  for (const [name, cluster] of [
    ['quay', quay],
    ['islet', islet],
  ] as const)
    await addSource(bench.engine, { name, ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
  const hold = (command: string): ClusterWish['after'][number]['act'] => ({
    kind: 'exec',
    selector: 'app=manifest',
    container: '',
    pods: 'one',
    active: '',
    command: ['manifestctl', command],
  })
  vessel = await addVessel(bench.engine, 'Boarding gate', {
    rules: [{ id: 'all', act: 'take', kind: 'namespace', pattern: 'quay/boarding' }],
    store: 'dry-dock',
    promises: { couldLose: null, backWithin: null },
    readers: 2,
    still: {
      budgetMs: 10_000,
      steps: [
        {
          id: 'pause',
          name: 'pause',
          member: 'quay/boarding',
          turn: 0,
          act: hold('hold'),
          release: hold('release'),
          limitMs: 5000,
          onFailure: 'stop',
        },
      ],
    },
  })
  point = await bench.backup(vessel)
})
afterAll(async () => {
  await bench?.close()
  await quay?.stop()
  await islet?.stop()
})

describe('a namespace on another cluster', () => {
  it('can’t go where its storage class, its namespace or a quota stands in the way, and the plan says so', async () => {
    const there = { source: 'islet', namespaces: { boarding: 'gates' } }
    expect((await plan(wish({}, there))).blockers).toEqual([
      {
        code: 'class_missing',
        what: expect.stringContaining('islet has no storage class berth'),
        next: 'Say which class is to be used in its place; there are: pontoon.',
      },
    ])
    const run = await bench.run('restore', vessel, { point, wish: wish({}, there), reason: null })
    expect(run).toMatchObject({ state: 'failed', error: { code: 'class_missing', touched: 'Nothing was changed.' } })
    islet.apply(namespace('narrow'), {
      apiVersion: 'v1',
      kind: 'ResourceQuota',
      metadata: { name: 'small', namespace: 'narrow' },
      spec: { hard: { configmaps: '0', 'requests.storage': '100Mi' } },
    })
    await islet.until(() => islet.json('get', 'resourcequota', 'small', '-n', 'narrow').status?.hard !== undefined)
    const narrow = await plan(wish({}, { ...there, namespaces: { boarding: 'narrow' }, classes: { berth: 'pontoon' } }))
    expect(narrow.blockers.map(({ code }) => code)).toEqual(['over_quota', 'over_quota'])
    expect(narrow.blockers.map(({ what }) => what).join()).toContain('1024Mi more would come')
    islet.kubectl('delete', 'namespace', 'narrow')
  })

  it('saved under a name is planned again as it was', async () => {
    const asked = wish(
      {},
      {
        source: 'islet',
        namespaces: { boarding: 'gates' },
        classes: { berth: 'pontoon' },
        after: [check('manifestctl', 'verify', '/data')],
      },
    )
    const id = await saveRestore(bench.engine, vessel, 'To the islet', asked, 'as every month')
    const saved = await savedRestore(bench.engine, id)
    expect([saved.wish, saved.reason]).toEqual([asked, 'as every month'])
    const [first, again] = await Promise.all([plan(asked), plan(saved.wish)])
    expect(again).toEqual(first)
    expect(again.operations.length).toBeGreaterThan(5)
  })

  it('comes back under another name, with another class, file by file, and passes its own check', async () => {
    const cluster: Partial<ClusterWish> = {
      source: 'islet',
      namespaces: { boarding: 'gates' },
      classes: { berth: 'pontoon' },
      labels: { copy: 'yes', team: null },
      registries: { 'images.quellmark.example/boarding': 'mirror.islet.example/gates' },
      changes: [{ kind: 'ConfigMap', name: 'sett*', patch: [{ op: 'replace', path: '/data/LANES', value: '1' }] }],
      exposure: 'unplug',
      after: [check('manifestctl', 'verify', '/data')],
    }
    const { run, receipts, of } = await bringBack(wish({}, cluster))
    expect([run.error, await bench.messages(run.id)]).toEqual([null, []])
    expect(run.state).toBe('done')
    expect(receipts.filter(({ equal }) => equal === false)).toEqual([])
    const volume = receipts.find(({ path }) => path === 'quay/boarding/volume/data-manifest-0')!
    expect(volume).toMatchObject({ target: 'islet/gates/volume/data-manifest-0', outcome: 'made', equal: true })
    expect(volume.fingerprint_now).toBe(volume.fingerprint_then)
    expect(receipts.at(-1)).toMatchObject({ path: 'check', outcome: 'made', equal: true, reason: expect.stringContaining('entries=') })
    expect(of('settings')).toMatchObject({ outcome: 'made', equal: true })
    // What a person would look at, with a client that is not ours.
    const home = ['-n', 'gates'] as const
    expect(islet.json('get', 'configmap', 'settings', ...home).data).toEqual({ LANES: '1' })
    expect(islet.json('get', 'deployment', 'scanner', ...home)).toMatchObject({
      metadata: { labels: { copy: 'yes' } },
      spec: { replicas: 2, template: { spec: { containers: [{ image: 'mirror.islet.example/gates/gate-scanner:4.0' }] } } },
      status: { readyReplicas: 2 },
    })
    expect(islet.json('get', 'pvc', 'data-manifest-0', ...home).spec.storageClassName).toBe('pontoon')
    expect(islet.json('get', 'rolebinding', 'reads', ...home).subjects[0].namespace).toBe('gates')
    expect(islet.json('get', 'service', 'manifest', ...home).spec.type).toBe('ClusterIP')
    expect(islet.json('get', 'ingress', 'gate', ...home).spec.ingressClassName).toBe('unplugged')
    expect(islet.json('get', 'lane', 'foot', ...home).spec.width).toBe(2)
    expect(islet.json('get', 'namespace', 'gates').metadata.labels).toMatchObject({ copy: 'yes' })
    const folder = islet.volume('data-manifest-0', 'gates')
    expect(readFileSync(join(folder, 'archive', 'first'), 'utf8')).toBe('one\n')
    expect(statSync(join(folder, 'archive', 'november', '01.txt')).mode & 0o777).toBe(0o640)
    expect(statSync(join(folder, 'large.bin')).size).toBe(9_000_000)
    expect(islet.temporary()).toBe(0)
  })

  it('is the same the second time, and what differs is skipped, merged or replaced as is wished', async () => {
    islet.kubectl('patch', 'configmap', 'settings', '-n', 'gates', '--type=merge', '-p', '{"data":{"LANES":"9","MORE":"x"}}')
    const cluster: Partial<ClusterWish> = { source: 'islet', namespaces: { boarding: 'gates' }, classes: { berth: 'pontoon' } }
    const picks = ['quay/boarding/core/ConfigMap/settings', 'quay/boarding/core/Secret/keys']
    const skipped = await bringBack(wish({ picks, collide: 'skip' }, cluster))
    expect(skipped.of('settings')).toMatchObject({ outcome: 'left', reason: 'Something of this name stands there and stays.' })
    expect(skipped.of('keys')).toMatchObject({ outcome: 'left', equal: true, reason: 'It stands there as it was.' })
    const merged = await bringBack(wish({ picks, collide: 'merge' }, cluster))
    expect([merged.run.error, merged.of('settings')]).toMatchObject([null, { outcome: 'merged', equal: true }])
    expect(islet.json('get', 'configmap', 'settings', '-n', 'gates').data).toEqual({ LANES: '4', MORE: 'x' })
    islet.kubectl('patch', 'configmap', 'settings', '-n', 'gates', '--type=merge', '-p', '{"data":{"LANES":"9"}}')
    const renamed = await bringBack(wish({ picks, collide: 'rename' }, cluster))
    expect(renamed.of('settings-then')).toMatchObject({ outcome: 'renamed', equal: true })
    const replaced = await bringBack(wish({ picks }, cluster))
    expect(replaced.of('settings')).toMatchObject({ outcome: 'replaced', equal: true })
    expect(islet.json('get', 'configmap', 'settings', '-n', 'gates').data).toEqual({ LANES: '4' })
    // What was replaced is a point of its own, and the return can be taken back.
    const back = await bench.run('restore', vessel, { ...(await takeBack(bench.engine, replaced.run.id)) })
    expect([back.error, back.state]).toEqual([null, 'done'])
    expect(islet.json('get', 'configmap', 'settings', '-n', 'gates').data).toEqual({ LANES: '9', MORE: 'x' })
  })
})

describe('a namespace in its own place', () => {
  it('gets back what changed, with its volume, while nothing uses it; and is ready again', async () => {
    const folder = quay.volume('data-manifest-0', 'boarding')
    writeFileSync(join(folder, 'archive', 'november', '02.txt'), 'damaged\n')
    writeFileSync(join(folder, 'new.txt'), 'not of then')
    quay.kubectl('delete', 'service', 'manifest', '-n', 'boarding')
    const { run, receipts, of } = await bringBack(wish({}, { after: [check('manifestctl', 'verify', '/data')] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(of('volume/data-manifest-0')).toMatchObject({ outcome: 'replaced', equal: true })
    expect(of('Service/manifest')).toMatchObject({ outcome: 'made', equal: true })
    expect(of('settings')).toMatchObject({ outcome: 'left', equal: true })
    expect(receipts.at(-1)).toMatchObject({ path: 'check', equal: true })
    expect(readFileSync(join(folder, 'archive', 'november', '02.txt'), 'utf8')).toBe('two\n')
    expect(readdirSync(folder)).not.toContain('new.txt')
    settled(quay, 'boarding')
    const kept = await openPoint(
      bench.engine,
      (await bench.engine.db.selectFrom('point').select('id').where('kept_for', '=', run.id).executeTakeFirstOrThrow()).id,
    )
    expect(kept.members[0]!.manifest.namespaces![0]!.volumes[0]!.files).toBe(6)
  })

  it('gets back single files, and nothing else of the volume changes', async () => {
    const folder = quay.volume('data-manifest-0', 'boarding')
    for (const day of ['01', '02']) writeFileSync(join(folder, 'archive', 'november', `${day}.txt`), 'damaged\n')
    const files = { 'quay/boarding/volume/data-manifest-0': ['archive/november/01.txt'] }
    const { run, of } = await bringBack(wish({ picks: [] }, { files }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(of('volume/data-manifest-0')).toMatchObject({ outcome: 'merged', rows: 1, equal: true })
    expect(['01', '02'].map((day) => readFileSync(join(folder, 'archive', 'november', `${day}.txt`), 'utf8'))).toEqual([
      'one\n',
      'damaged\n',
    ])
    settled(quay, 'boarding')
    expect(quay.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas).toBe(1)
  })

  it('comes beside itself with a prefix, and everything refers to the new names', async () => {
    const asked = wish({}, { prefix: 'old-', exposure: 'leave' })
    const { warnings } = await plan(asked)
    expect(warnings).toEqual(['The service manifest would send to old-manifest as well, because its pods bear the same labels.'])
    const { run, receipts } = await bringBack(asked)
    expect(run.error).toBeNull()
    expect(receipts.filter(({ equal }) => equal === false)).toEqual([])
    const copy = quay.json('get', 'deployment', 'old-scanner', '-n', 'boarding').spec.template.spec
    expect(copy).toMatchObject({
      serviceAccountName: 'old-gatekeeper',
      containers: [{ envFrom: [{ configMapRef: { name: 'old-settings' } }, { secretRef: { name: 'old-keys' } }] }],
    })
    expect(quay.json('get', 'rolebinding', 'old-reads', '-n', 'boarding')).toMatchObject({
      roleRef: { name: 'old-reader' },
      subjects: [{ name: 'old-gatekeeper' }],
    })
    expect(quay.json('get', 'pvc', 'data-old-manifest-0', '-n', 'boarding').status.phase).toBe('Bound')
    const own = quay.volume('data-old-manifest-0', 'boarding')
    expect(readFileSync(join(own, 'archive', 'november', '02.txt'), 'utf8')).toBe('two\n')
  })

  it('comes back whole when it is gone', async () => {
    quay.kubectl('delete', 'namespace', 'boarding')
    const rehearsed = await bringBack(wish({}), 'rehearsal')
    expect([rehearsed.run.error, rehearsed.run.state]).toEqual([null, 'done'])
    expect(quay.run(['get', 'namespace', 'boarding']).status).not.toBe(0)
    const { run, receipts } = await bringBack(wish({}, { after: [check('manifestctl', 'verify', '/data')] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(receipts.filter(({ equal }) => equal === false)).toEqual([])
    settled(quay, 'boarding')
    expect(quay.json('get', 'namespace', 'boarding').metadata.labels).toMatchObject({ team: 'gates' })
    expect(quay.temporary()).toBe(0)
  })
})

describe('what stands in the way', () => {
  it('is told by the plan: changes that can’t be made, versions that are not served, a namespace that is ending, what is left out', async () => {
    const patch = (path: string, value: unknown) => [{ op: 'replace' as const, path, value }]
    const odd = await plan(wish({}, { changes: [{ kind: 'ConfigMap', name: '*', patch: patch('/data/NOTHING/here', 1) }] }))
    expect(odd.blockers[0]).toMatchObject({ code: 'change_impossible', what: expect.stringContaining('ConfigMap settings') })
    const served = await plan(wish({}, { changes: [{ kind: 'Deployment', name: '*', patch: patch('/apiVersion', 'apps/v9') }] }))
    expect(served.blockers[0]).toMatchObject({ code: 'not_served', next: 'It serves v1: change /apiVersion, or leave these out.' })
    quay.apply(
      namespace('ending'),
      config('keeps', {}, { metadata: { name: 'keeps', namespace: 'ending', finalizers: ['quellmark.example/keep'] } }),
    )
    quay.kubectl('delete', 'namespace', 'ending', '--wait=false')
    const ending = await plan(wish({}, { namespaces: { boarding: 'ending' } }))
    expect(ending.blockers.map(({ code }) => code)).toContain('namespace_ending')
    const without = await plan(
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
    const { run, of } = await bringBack(asked)
    expect(run.state).toBe('warned')
    expect((await bench.messages(run.id)).join()).toContain('StatefulSet manifest is not ready (')
    expect(of('settings')).toMatchObject({ outcome: 'made', equal: true })
  })

  it('may be a worker that is killed while a volume is written: what used it runs again', async () => {
    const worker = startWorker(bench.environment)
    const id = await bench.engine.startRun({
      kind: 'restore',
      vessel,
      startedBy: 'a test',
      params: { point, wish: wish({ picks: ['quay/boarding/volume/data-manifest-0'] }), reason: 'a test' },
    })
    await quay.until(() => quay.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas === 0)

    await killWorker(worker)
    await tidyUp(bench.engine, true)
    expect(quay.temporary()).toBe(0)
    expect(await bench.record(id)).toMatchObject({
      state: 'failed',
      error: { code: 'worker_died', touched: expect.stringContaining('is started again') },
    })
    expect(quay.json('get', 'statefulset', 'manifest', '-n', 'boarding').spec.replicas).toBe(1)
    const { run } = await bringBack(wish({ picks: ['quay/boarding/volume/data-manifest-0'] }))
    expect([run.error, run.state]).toEqual([null, 'done'])
    expect(quay.temporary()).toBe(0)
    settled(quay, 'boarding')
  })
})

describe('a torn copy', () => {
  it('is found by the service’s own check on the receipt', async () => {
    const rough = await addVessel(bench.engine, 'Rough', {
      rules: [{ id: 'all', act: 'take', kind: 'namespace', pattern: 'quay/boarding' }],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 2,
    })
    // As a copy is between the two steps of its writing: the journal is ahead of the index.
    const folder = quay.volume('data-manifest-0', 'boarding')
    quay.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', '--replicas=0')
    await quay.until(() => (quay.json('get', 'statefulset', 'manifest', '-n', 'boarding').status.replicas ?? 0) === 0)
    execFileSync('sh', ['-c', 'printf "torn\\n" >> manifest.journal'], { cwd: folder })
    const torn = await bench.backup(rough)
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
    const { run, receipts } = await bringBack(asked, 'restore', torn)
    expect(run.state).toBe('warned')
    expect(receipts.at(-1)).toMatchObject({
      path: 'check',
      outcome: 'failed',
      equal: false,
      reason: expect.stringContaining('the index says'),
    })
    quay.kubectl('scale', 'statefulset', 'manifest', '-n', 'boarding', '--replicas=1')
  })
})
