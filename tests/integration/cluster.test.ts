import { execFileSync } from 'node:child_process'
import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { PassThrough } from 'node:stream'
import { BatchV1Api, Exec, KubeConfig, Watch } from '@kubernetes/client-node'
import { afterAll, beforeAll, describe, expect, it } from 'vitest'
import { manifestService, namespace, snapshots, storage, TestCluster, type Body } from '../support/cluster'
import { ownFolder } from '../support/folder'

// Whether the stand-in cluster is honest, asked by clients that nobody here wrote: Debian's kubectl and the official
// JavaScript client.

let cluster: TestCluster

const config = (name: string, labels: Record<string, string> = {}, data = { LANES: '4' }): Body => ({
  apiVersion: 'v1',
  kind: 'ConfigMap',
  metadata: { name, namespace: 'desk', labels },
  data,
})
const scanner = (replicas: number, image = 'gate-scanner:1'): Body => ({
  apiVersion: 'apps/v1',
  kind: 'Deployment',
  metadata: { name: 'scanner', namespace: 'desk' },
  spec: {
    replicas,
    selector: { matchLabels: { app: 'scanner' } },
    template: { metadata: { labels: { app: 'scanner' } }, spec: { containers: [{ name: 'scanner', image }] } },
  },
})
const names = (...args: string[]) =>
  cluster
    .kubectl(...args, '-o', 'name')
    .split('\n')
    .filter(Boolean)
    .sort()
const phases = (home: string) =>
  cluster.json('get', 'pods', '-n', home).items.map(({ status }: { status: { phase: string } }) => status.phase)

/** What a command in a container writes, its messages and its exit code, over the official client's WebSocket. */
async function exec(home: string, pod: string, container: string, command: string[]) {
  const kube = new KubeConfig()
  kube.loadFromFile(cluster.process.kubeconfig)
  const [out, err] = [new PassThrough(), new PassThrough()]
  const parts: { out: Buffer[]; err: Buffer[] } = { out: [], err: [] }
  out.on('data', (bytes: Buffer) => parts.out.push(bytes))
  err.on('data', (bytes: Buffer) => parts.err.push(bytes))
  const status = await new Promise<{ status?: string; details?: { causes?: { message?: string }[] } }>((resolve, reject) => {
    new Exec(kube).exec(home, pod, container, command, out, err, null, false, resolve).catch(reject)
  })
  return {
    out: Buffer.concat(parts.out),
    err: Buffer.concat(parts.err).toString(),
    code: status.status === 'Success' ? 0 : Number(status.details?.causes?.[0]?.message ?? -1),
  }
}

beforeAll(async () => {
  cluster = await TestCluster.start('pier', { nodes: 2, users: { 'token of mira': 'mira' } })
  cluster.apply(namespace('desk'), storage('berth'), snapshots('berth'))
})
afterAll(() => cluster?.stop())

describe('objects', () => {
  it('are made, found by labels and fields, changed in each way, and go', () => {
    cluster.apply(config('a', { tier: 'front' }), config('b', { tier: 'back' }), config('c'))
    const configMaps = (...more: string[]) => names('get', 'configmaps', '-n', 'desk', ...more)
    expect(configMaps('-l', 'tier in (front,back)')).toEqual(['configmap/a', 'configmap/b'])
    expect(configMaps('-l', 'tier!=front,!app')).toEqual(['configmap/b', 'configmap/c', 'configmap/kube-root-ca.crt'])
    expect(configMaps('--field-selector', 'metadata.name=b')).toEqual(['configmap/b'])
    expect(cluster.apply(config('a', { tier: 'front' }, { LANES: '6' }))).toContain('configured')
    cluster.kubectl('patch', 'configmap', 'a', '-n', 'desk', '--type', 'merge', '-p', '{"data":{"HOURS":"9"}}')
    cluster.kubectl('patch', 'configmap', 'a', '-n', 'desk', '--type', 'json', '-p', '[{"op":"replace","path":"/data/LANES","value":"7"}]')
    cluster.kubectl('label', 'configmap', 'a', '-n', 'desk', 'tier-')
    expect(cluster.json('get', 'configmap', 'a', '-n', 'desk')).toMatchObject({ data: { LANES: '7', HOURS: '9' } })
    expect(configMaps('-l', 'tier=front')).toEqual([])
    cluster.kubectl('delete', 'configmap', 'b', '-n', 'desk')
    expect(configMaps('-l', 'tier')).toEqual([])
    expect(cluster.run(['get', 'configmap', 'b', '-n', 'desk']).stderr).toContain('NotFound')
  })

  it('are not overwritten by whoever saw an older version', () => {
    const seen = cluster.json('get', 'configmap', 'a', '-n', 'desk')
    cluster.kubectl('annotate', 'configmap', 'a', '-n', 'desk', 'note=changed')
    const { stderr } = cluster.run(['replace', '-f', '-'], JSON.stringify({ ...seen, data: { LANES: '1' } }))
    expect(stderr).toContain('the object has been modified')
    expect(cluster.json('get', 'configmap', 'a', '-n', 'desk').data.LANES).toBe('7')
  })

  it('come page by page, every one once', () => {
    cluster.apply(...Array.from({ length: 25 }, (_, i) => config(`many-${i}`, { many: 'yes' })))
    expect(names('get', 'configmaps', '-n', 'desk', '-l', 'many=yes', '--chunk-size', '10')).toHaveLength(25)
    const page = JSON.parse(cluster.kubectl('get', '--raw', '/api/v1/namespaces/desk/configmaps?limit=10&labelSelector=many%3Dyes'))
    expect([page.items.length, page.metadata.remainingItemCount, typeof page.metadata.continue]).toEqual([10, 15, 'string'])
  })

  it('are watched: every change in its order', async () => {
    const kube = new KubeConfig()
    kube.loadFromFile(cluster.process.kubeconfig)
    const told: string[][] = []
    const { resourceVersion } = cluster.json('get', 'configmaps', '-n', 'desk').metadata
    // What happens before the watch begins is told too.
    cluster.apply(config('first', { watched: 'yes' }), config('c'))
    const watching = await new Watch(kube).watch(
      '/api/v1/namespaces/desk/configmaps',
      { labelSelector: 'watched', resourceVersion },
      (type, { metadata }) => told.push([type, metadata.name]),
      () => undefined,
    )
    cluster.kubectl('label', 'configmap', 'c', '-n', 'desk', 'watched=on')
    cluster.kubectl('label', 'configmap', 'first', '-n', 'desk', 'watched-')
    await cluster.until(() => told.length === 3)
    watching.abort()
    expect(told).toEqual([
      ['ADDED', 'first'],
      ['ADDED', 'c'],
      ['DELETED', 'first'],
    ])
  })

  it('with finalizers go when these are gone; what they own goes with them, and a namespace with all that is in it', async () => {
    cluster.apply(namespace('slip'))
    const held = {
      apiVersion: 'v1',
      kind: 'ConfigMap',
      metadata: { name: 'held', namespace: 'slip', finalizers: ['quellmark.example/wait'] },
    }
    cluster.apply(held)
    const { uid } = cluster.json('get', 'configmap', 'held', '-n', 'slip').metadata
    const ownerReferences = [{ apiVersion: 'v1', kind: 'ConfigMap', name: 'held', uid }]
    cluster.apply({ apiVersion: 'v1', kind: 'Secret', metadata: { name: 'owned', namespace: 'slip', ownerReferences } })
    cluster.kubectl('delete', 'namespace', 'slip', '--wait=false')
    const refused = cluster.run(['create', 'configmap', 'late', '-n', 'slip'])
    expect(refused.stderr).toContain('being terminated')
    await cluster.until(() => names('get', 'configmaps,secrets', '-n', 'slip').length === 1)
    expect(cluster.json('get', 'namespace', 'slip').status.phase).toBe('Terminating')
    cluster.kubectl('patch', 'configmap', 'held', '-n', 'slip', '--type', 'merge', '-p', '{"metadata":{"finalizers":null}}')
    await cluster.until(() => !names('get', 'namespaces').includes('namespace/slip'))
  })

  it('of custom kinds are served from their definition on, until it goes', () => {
    cluster.apply({
      apiVersion: 'apiextensions.k8s.io/v1',
      kind: 'CustomResourceDefinition',
      metadata: { name: 'berths.quellmark.example' },
      spec: {
        group: 'quellmark.example',
        scope: 'Namespaced',
        names: { kind: 'Berth', plural: 'berths', singular: 'berth' },
        versions: [{ name: 'v1', served: true, storage: true, schema: { openAPIV3Schema: { type: 'object' } } }],
      },
    })
    cluster.apply({
      apiVersion: 'quellmark.example/v1',
      kind: 'Berth',
      metadata: { name: 'north', namespace: 'desk' },
      spec: { metres: 120 },
    })
    expect(cluster.json('get', 'berths', '-n', 'desk').items).toHaveLength(1)
    cluster.kubectl('delete', 'crd', 'berths.quellmark.example')
    expect(cluster.run(['get', 'berths', '-n', 'desk']).status).not.toBe(0)
  })

  it('that can’t be are refused with the field that is wrong', () => {
    expect(cluster.run(['create', 'configmap', 'Wrong_Name', '-n', 'desk']).stderr).toContain('metadata.name')
    cluster.apply(scanner(1))
    const other = scanner(1) as { spec: { selector: { matchLabels: Record<string, string> } } }
    other.spec.selector.matchLabels = { app: 'other' }
    expect(cluster.run(['apply', '-f', '-'], JSON.stringify(other)).stderr).toContain('field is immutable')
    cluster.apply({
      apiVersion: 'v1',
      kind: 'ResourceQuota',
      metadata: { name: 'few', namespace: 'desk' },
      spec: { hard: { secrets: '1' } },
    })
    cluster.kubectl('create', 'secret', 'generic', 'one', '-n', 'desk')
    expect(cluster.run(['create', 'secret', 'generic', 'two', '-n', 'desk']).stderr).toContain('exceeded quota')
  })
})

describe('rights', () => {
  it('are those that roles give', () => {
    const as = (...args: string[]) => cluster.run(['--token', 'token of mira', ...args])
    expect(as('get', 'pods', '-n', 'desk').stderr).toContain('cannot list resource "pods"')
    cluster.kubectl('create', 'role', 'looker', '-n', 'desk', '--verb', 'get,list', '--resource', 'pods')
    cluster.kubectl('create', 'rolebinding', 'mira', '-n', 'desk', '--role', 'looker', '--user', 'mira')
    expect(as('get', 'pods', '-n', 'desk').status).toBe(0)
    expect(as('auth', 'can-i', 'list', 'pods', '-n', 'desk').stdout.trim()).toBe('yes')
    expect(as('auth', 'can-i', 'delete', 'pods', '-n', 'desk').stdout.trim()).toBe('no')
    expect(as('get', 'pods', '-n', 'default').status).not.toBe(0)
    cluster.process.expire('token of mira')
    expect(as('get', 'pods', '-n', 'desk').stderr).toMatch(/Unauthorized|logged in/)
  })
})

describe('workloads', () => {
  it('have as many pods as they ask for, which start, are replaced, and stop', async () => {
    cluster.apply(scanner(3))
    await cluster.until(() => cluster.json('get', 'deployment', 'scanner', '-n', 'desk').status?.readyReplicas === 3)
    const [pod] = names('get', 'pods', '-n', 'desk', '-l', 'app=scanner')
    cluster.kubectl('delete', pod!, '-n', 'desk')
    await cluster.until(() => {
      const now = names('get', 'pods', '-n', 'desk', '-l', 'app=scanner')
      return now.length === 3 && !now.includes(pod!)
    })
    cluster.kubectl('scale', 'deployment', 'scanner', '-n', 'desk', '--replicas', '0')
    await cluster.until(() => names('get', 'pods', '-n', 'desk', '-l', 'app=scanner').length === 0)
    cluster.apply(scanner(1, 'no-such-image:1'))
    await cluster.until(() => {
      const [pod] = cluster.json('get', 'pods', '-n', 'desk', '-l', 'app=scanner').items
      return pod?.status.containerStatuses?.[0].state.waiting?.reason === 'ImagePullBackOff'
    })
    cluster.kubectl('delete', 'deployment', 'scanner', '-n', 'desk')
    await cluster.until(() => names('get', 'pods,replicasets', '-n', 'desk', '-l', 'app=scanner').length === 0)
  })

  it('of jobs end', async () => {
    cluster.kubectl('create', 'job', 'report', '-n', 'desk', '--image', 'tide-report')
    cluster.kubectl('wait', '--for=condition=complete', 'job/report', '-n', 'desk', '--timeout=20s')
    expect(phases('desk')).toContain('Succeeded')
  })

  it('of cron jobs start when their time comes, as often as they allow', async () => {
    const report = (name: string, more: object = {}) => ({
      apiVersion: 'batch/v1',
      kind: 'CronJob',
      metadata: { name, namespace: 'desk' },
      spec: {
        schedule: '*/5 * * * *',
        jobTemplate: { spec: { template: { spec: { restartPolicy: 'Never', containers: [{ name: 'report', image: 'tide-report:1' }] } } } },
        ...more,
      },
    })
    cluster.apply(report('report'), report('rests', { suspend: true }))
    expect(cluster.run(['apply', '-f', '-'], JSON.stringify(report('odd', { schedule: 'now and then' }))).stderr).toContain('spec.schedule')
    // As if they had started last an hour ago.
    const kube = new KubeConfig()
    kube.loadFromFile(cluster.process.kubeconfig)
    const batch = kube.makeApiClient(BatchV1Api)
    for (const name of ['report', 'rests']) {
      const body = await batch.readNamespacedCronJob({ name, namespace: 'desk' })
      await batch.replaceNamespacedCronJobStatus({
        name,
        namespace: 'desk',
        body: { ...body, status: { lastScheduleTime: new Date(Date.now() - 3_600_000) } },
      })
    }
    const jobs = () => cluster.json('get', 'jobs', '-n', 'desk').items as { metadata: { name: string }; status: { succeeded?: number } }[]
    const ofReports = () => jobs().filter(({ metadata }) => /^(report|rests)-/.test(metadata.name))
    await cluster.until(() => ofReports().some(({ status }) => status.succeeded === 1))
    expect(ofReports().map(({ metadata }) => metadata.name)).toEqual([expect.stringMatching(/^report-\d+$/)])
    const { status } = cluster.json('get', 'cronjob', 'report', '-n', 'desk')
    expect(Date.now() - Date.parse(status.lastScheduleTime)).toBeLessThan(300_000 + 5000)
    cluster.kubectl('delete', 'cronjob', 'report', 'rests', '-n', 'desk')
    await cluster.until(() => ofReports().length === 0)
  })
})

describe('volumes', () => {
  beforeAll(async () => {
    cluster.apply(namespace('boarding'), manifestService('boarding', 'berth'))
    cluster.kubectl('wait', '--for=condition=Ready', 'pod/manifest-0', '-n', 'boarding', '--timeout=30s')
  })

  /** Whether the application says that a copy, as tar, is whole. */
  function isWhole(tar: Buffer): boolean {
    const folder = ownFolder('copy')
    execFileSync('tar', ['-x', '-C', folder], { input: tar })
    try {
      execFileSync(process.execPath, ['dist/manifest-service.mjs', 'check', folder])
      return true
    } catch {
      return false
    }
  }
  const copy = async () => isWhole((await exec('boarding', 'manifest-0', 'service', ['tar', '-cf', '-', '-C', '/data', '.'])).out)

  it('are torn now and then when they are copied as they are, and never while the application holds still', async () => {
    const torn: boolean[] = []
    for (let i = 0; i < 12; i++) torn.push(!(await copy()))
    expect(torn).toContain(true)
    for (let i = 0; i < 6; i++) {
      const { out } = await exec('boarding', 'manifest-0', 'service', ['manifestctl', 'hold'])
      expect(out.toString()).toContain('held=true')
      expect(await copy()).toBe(true)
      await exec('boarding', 'manifest-0', 'service', ['manifestctl', 'release'])
    }
  })

  it('give exit codes and messages of what is run beside them', async () => {
    expect(await exec('boarding', 'manifest-0', 'service', ['sh', '-c', 'echo wrong >&2; exit 3'])).toMatchObject({
      code: 3,
      err: 'wrong\n',
    })
    expect((await exec('boarding', 'manifest-0', 'service', ['no-such-program'])).code).toBe(-1)
    const large = await exec('boarding', 'manifest-0', 'service', ['head', '-c', '20000000', '/dev/zero'])
    expect([large.code, large.out.length]).toEqual([0, 20_000_000])
  })

  it('have snapshots, from which other volumes begin', async () => {
    await exec('boarding', 'manifest-0', 'service', ['manifestctl', 'hold'])
    cluster.apply({
      apiVersion: 'snapshot.storage.k8s.io/v1',
      kind: 'VolumeSnapshot',
      metadata: { name: 'now', namespace: 'boarding' },
      spec: { source: { persistentVolumeClaimName: 'data-manifest-0' }, volumeSnapshotClassName: 'berth' },
    })
    await cluster.until(() => cluster.json('get', 'volumesnapshot', 'now', '-n', 'boarding').status?.readyToUse === true)
    await exec('boarding', 'manifest-0', 'service', ['manifestctl', 'release'])
    cluster.apply(
      {
        apiVersion: 'v1',
        kind: 'PersistentVolumeClaim',
        metadata: { name: 'copy', namespace: 'boarding' },
        spec: {
          accessModes: ['ReadWriteOnce'],
          storageClassName: 'berth',
          resources: { requests: { storage: '1Gi' } },
          dataSource: { apiGroup: 'snapshot.storage.k8s.io', kind: 'VolumeSnapshot', name: 'now' },
        },
      },
      {
        apiVersion: 'v1',
        kind: 'Pod',
        metadata: { name: 'reader', namespace: 'boarding' },
        spec: {
          containers: [{ name: 'reader', image: 'reader', volumeMounts: [{ name: 'data', mountPath: '/data' }] }],
          volumes: [{ name: 'data', persistentVolumeClaim: { claimName: 'copy' } }],
        },
      },
    )
    cluster.kubectl('wait', '--for=condition=Ready', 'pod/reader', '-n', 'boarding', '--timeout=20s')
    for (let i = 0; i < 3; i++)
      expect(isWhole((await exec('boarding', 'reader', 'reader', ['tar', '-cf', '-', '-C', '/data', '.'])).out)).toBe(true)
    cluster.kubectl('delete', 'pod/reader', 'pvc/copy', 'volumesnapshot/now', '-n', 'boarding')
    await cluster.until(() => names('get', 'pv').length === 1)
  })

  it('and everything else are there again when the cluster starts again', async () => {
    const { folder } = cluster
    await cluster.stop()
    cluster = await TestCluster.start('pier', { folder, nodes: 2 })
    cluster.kubectl('wait', '--for=condition=Ready', 'pod/manifest-0', '-n', 'boarding', '--timeout=30s')
    expect(cluster.json('get', 'configmap', 'a', '-n', 'desk').data.LANES).toBe('7')
    const { out } = await exec('boarding', 'manifest-0', 'service', ['manifestctl', 'status'])
    expect(Number(/entries=(\d+)/.exec(out.toString())![1])).toBeGreaterThan(10)
    writeFileSync(join(folder, 'volumes', cluster.json('get', 'pvc', 'data-manifest-0', '-n', 'boarding').spec.volumeName, 'found'), 'it')
    expect((await exec('boarding', 'manifest-0', 'service', ['cat', '/data/found'])).out.toString()).toBe('it')
  })
})
