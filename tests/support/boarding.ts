import { mkdirSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { clusterWishOf, type ClusterWish } from '../../core/cluster/wish'
import { wishOf, type Wish } from '../../core/restore/wish'
import { addSource } from '../../engine/catalog/sources'
import { addVessel, type Vessel } from '../../engine/catalog/vessels'
import { openPoint } from '../../engine/points/open'
import { planAll } from '../../engine/runs/restore-plan'
import { readKubeconfig } from '../../engine/sources/kubernetes/access'
import { manifestService, namespace, snapshots, storage, TestCluster, type Body } from './cluster'
import { Workbench } from './engine'
import { exec } from './held'

export const config = (name: string, data: Record<string, string>, more: Body = {}): Body => ({
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
export const ingress: Body = {
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
  ingress,
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

/** A command after a return. */
export const check = (...command: string[]): ClusterWish['after'][number] => ({ name: 'check', act: exec(...command), limitMs: 10_000 })

export const wish = (given: Partial<Omit<Wish, 'cluster'>>, cluster: Partial<ClusterWish> = {}): Wish =>
  wishOf({ picks: ['pier/boarding'], ...given, cluster: clusterWishOf(cluster) })

export const settled = (cluster: TestCluster, home: string) =>
  cluster.kubectl('wait', '--for=condition=Ready', 'pod', '--all', '-n', home, '--timeout=40s')

/** Two clusters, a namespace on the first with all kinds of things, and a point of it. */
export class BoardingBench {
  private constructor(
    readonly pier: TestCluster,
    readonly islet: TestCluster,
    readonly bench: Workbench,
    readonly vessel: Vessel,
    readonly point: string,
  ) {}

  static async start(): Promise<BoardingBench> {
    const [pier, islet, bench] = await Promise.all([TestCluster.start('pier'), TestCluster.start('islet'), Workbench.open()])
    pier.apply(storage('berth'), snapshots('berth'), definition)
    pier.apply(namespace('boarding', { team: 'gates' }), manifestService('boarding', 'berth'), ...things)
    islet.apply(storage('pontoon'), snapshots('pontoon'))
    settled(pier, 'boarding')
    const folder = pier.volume('data-manifest-0', 'boarding')
    mkdirSync(join(folder, 'archive', 'november'), { recursive: true })
    writeFileSync(join(folder, 'archive', 'november', '01.txt'), 'one\n', { mode: 0o640 })
    writeFileSync(join(folder, 'archive', 'november', '02.txt'), 'two\n')
    writeFileSync(join(folder, 'large.bin'), Buffer.alloc(9_000_000, 'manifest '))
    symlinkSync('november/01.txt', join(folder, 'archive', 'first'))
    for (const [name, cluster] of [
      ['pier', pier],
      ['islet', islet],
    ] as const)
      await addSource(bench.engine, { name, ...readKubeconfig(readFileSync(cluster.process.kubeconfig, 'utf8')) })
    const vessel = await addVessel(bench.engine, 'Boarding gate', {
      rules: [{ id: 'all', act: 'take', kind: 'namespace', pattern: 'pier/boarding' }],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 2,
      quiesce: {
        budgetMs: 10_000,
        steps: [
          {
            id: 'pause',
            name: 'pause',
            member: 'pier/boarding',
            turn: 0,
            act: exec('manifestctl', 'hold'),
            release: exec('manifestctl', 'release'),
            limitMs: 5000,
            onFailure: 'stop',
          },
        ],
      },
    })
    return new BoardingBench(pier, islet, bench, vessel, await bench.backup(vessel))
  }

  async plan(asked: Wish) {
    return (await planAll(this.bench.engine, await openPoint(this.bench.engine, this.point), asked)).namespaces[0]!.plan
  }

  async bringBack(asked: Wish, kind: 'restore' | 'rehearsal' = 'restore', from = this.point) {
    const run = await this.bench.run(kind, this.vessel, { point: from, wish: asked, reason: 'a test' })
    const receipts = await this.bench.engine.db.selectFrom('receipt').selectAll().where('run_id', '=', run.id).orderBy('ordinal').execute()
    return { run, receipts, of: (name: string) => receipts.find(({ target }) => target.endsWith(`/${name}`))! }
  }

  async close(): Promise<void> {
    await this.bench.close()
    await this.pier.stop()
    await this.islet.stop()
  }
}
