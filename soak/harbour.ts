import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { wishOf } from '../core/restore/wish'
import { addSource, discoverSource } from '../engine/catalog/sources'
import { addVessel, type Vessel } from '../engine/catalog/vessels'
import type { Engine } from '../engine/engine'
import { readKubeconfig } from '../engine/sources/kubernetes/access'
import { ClusterClient } from '../engine/sources/kubernetes/client'
import { freePort } from '../demo/postgres-server'
import { ClusterProcess } from '../standins/cluster/start'
import { pause } from './application'
import type { Random } from './random'

export const HOME = 'desk'
const FILES = 12
const REPLICAS = 2

interface KubeList {
  items: { metadata: { name: string }; data?: Record<string, string>; spec: { replicas?: number; volumeName?: string } }[]
}

/** What a file holds in a version, so that each tells by itself which one it is, and whether it is whole. */
const contentOf = (file: number, version: number) => `file ${file} version ${version}\n`.repeat(200 + ((file * 7 + version) % 400))
const versionIn = (text: string, file: number) => {
  const version = Number(/^file \d+ version (\d+)\n/.exec(text)?.[1] ?? NaN)
  return text === contentOf(file, version) ? version : null
}

/** A cluster with a namespace in which something goes on: settings, a volume of files, and workloads that can be stopped. */
export class Harbour {
  /** When each version was begun. */
  private readonly begun: number[] = []
  /** Versions that the cluster has taken, and when it had. */
  private readonly said: { version: number; at: number }[] = []
  private working: Promise<void> = Promise.resolve()
  private stopped = false

  private constructor(
    private readonly folder: string,
    private readonly port: number,
    private process: ClusterProcess,
    private readonly client: ClusterClient,
    private readonly volume: string,
    readonly vessel: Vessel,
  ) {}

  static async make(folder: string, engine: Engine): Promise<Harbour> {
    const port = await freePort()
    const process = await ClusterProcess.start({ name: 'pier', folder, port })
    const access = { name: 'pier', ...readKubeconfig(readFileSync(process.kubeconfig, 'utf8')) }
    const client = new ClusterClient(access)
    for (const [path, body] of OBJECTS) await client.ask(path, { method: 'POST', body })
    const source = await addSource(engine, access)
    const vessel = await addVessel(engine, 'Desk', {
      rules: [{ id: 'desk', act: 'take', kind: 'namespace', pattern: `pier/${HOME}` }],
      store: 'dry-dock',
      promises: { couldLose: null, backWithin: null },
      readers: 1,
    })
    let volume: string | undefined
    while (!volume) {
      await pause(100)
      const { items } = await client.ask<KubeList>(`/api/v1/namespaces/${HOME}/persistentvolumeclaims`)
      volume = items[0]?.spec.volumeName
    }
    await discoverSource(engine, source)
    const harbour = new Harbour(folder, port, process, client, join(folder, 'volumes', volume), vessel)
    for (let file = 0; file < FILES; file++) harbour.write(file, 0)
    harbour.begun.push(Date.now())
    return harbour
  }

  start(): void {
    this.working = this.work()
  }

  private async work(): Promise<void> {
    while (!this.stopped) {
      const version = this.begun.length
      this.begun.push(Date.now())
      this.write(version % FILES, version)
      await this.client.ask(`/api/v1/namespaces/${HOME}/configmaps/settings`, { method: 'PUT', body: settings(String(version)) }).then(
        () => this.said.push({ version, at: Date.now() }),
        // The cluster is away for a while.
        () => undefined,
      )
      await pause(300)
    }
  }

  /** As applications write what must be whole: beside it, then in its place. */
  private write(file: number, version: number): void {
    const path = join(this.volume, `file-${file}`)
    writeFileSync(`${path}.new`, contentOf(file, version))
    renameSync(`${path}.new`, path)
  }

  async stop(): Promise<void> {
    this.stopped = true
    await this.working
  }

  async restart(random: Random): Promise<number> {
    await this.process.stop(random.below(2) === 0 ? 'SIGKILL' : 'SIGTERM')
    const ms = random.below(4000)
    await pause(ms)
    this.process = await ClusterProcess.start({ name: 'pier', folder: this.folder, port: this.port })
    return ms
  }

  async close(): Promise<void> {
    this.client.close()
    await this.process.stop()
  }

  /** What a restore of a point into a namespace of its own is asked for. */
  wish(into: string) {
    return wishOf({ picks: [`pier/${HOME}`], cluster: { namespaces: { [HOME]: into }, readyWithinMs: 30_000 } })
  }

  /** What is wrong in a namespace into which a point came back that was made between two moments; null when nothing is. */
  async wrongIn(into: string, from: Date, to: Date): Promise<string | null> {
    const [least, most] = [this.versionAt(from.getTime()) - 1, this.versionAt(to.getTime())]
    const isThen = (version: number | null) => version !== null && version <= most
    const { items } = await this.client.ask<KubeList>(`/api/v1/namespaces/${into}/configmaps`)
    const said = Number(items.find(({ metadata }) => metadata.name === 'settings')?.data?.version ?? NaN)
    const before = this.said.findLast(({ at }) => at <= from.getTime())?.version ?? 0
    if (!isThen(said) || said < before) return `the settings are of version ${said}, made between ${before} and ${most}`
    const claims = await this.client.ask<KubeList>(`/api/v1/namespaces/${into}/persistentvolumeclaims`)
    const folder = join(this.folder, 'volumes', claims.items[0]!.spec.volumeName!)
    for (let file = 0; file < FILES; file++) {
      const path = join(folder, `file-${file}`)
      const version = existsSync(path) ? versionIn(readFileSync(path, 'utf8'), file) : null
      const oldest = least - ((((least - file) % FILES) + FILES) % FILES)
      if (!isThen(version) || version! < Math.max(0, oldest))
        return `file ${file} is of version ${version}, made between ${least} and ${most}`
    }
    return null
  }

  private versionAt(ms: number): number {
    const later = this.begun.findIndex((at) => at > ms)
    return (later < 0 ? this.begun.length : later) - 1
  }

  async remove(namespace: string): Promise<void> {
    await this.client.ask(`/api/v1/namespaces/${namespace}`, { method: 'DELETE' })
  }

  /** What is left of what was made for a time, and workloads that are not as they were. */
  async left(): Promise<string[]> {
    const wrong: string[] = []
    for (const path of ['/api/v1/pods', '/api/v1/persistentvolumeclaims', '/apis/snapshot.storage.k8s.io/v1/volumesnapshots']) {
      const { items } = await this.client.ask<KubeList>(path, { query: { labelSelector: 'unbroken-vessel.temporary' } })
      for (const { metadata } of items) wrong.push(`left in the cluster: ${path} ${metadata.name}`)
    }
    const { items } = await this.client.ask<KubeList>(`/apis/apps/v1/namespaces/${HOME}/deployments`)
    for (const { metadata, spec } of items)
      if (spec.replicas !== REPLICAS) wrong.push(`${metadata.name} has ${spec.replicas} replicas and not ${REPLICAS}`)
    return wrong
  }
}

const settings = (version: string) => ({
  apiVersion: 'v1',
  kind: 'ConfigMap',
  metadata: { name: 'settings', namespace: HOME },
  data: { version },
})

const workload = (name: string, volumes: object[], mounts: object[]) => ({
  apiVersion: 'apps/v1',
  kind: 'Deployment',
  metadata: { name, namespace: HOME },
  spec: {
    replicas: REPLICAS,
    selector: { matchLabels: { app: name } },
    template: {
      metadata: { labels: { app: name } },
      spec: { containers: [{ name: 'main', image: 'kiosk:1', volumeMounts: mounts }], volumes },
    },
  },
})

const OBJECTS: [path: string, body: object][] = [
  [
    '/apis/storage.k8s.io/v1/storageclasses',
    { apiVersion: 'storage.k8s.io/v1', kind: 'StorageClass', metadata: { name: 'berth' }, provisioner: 'berth.quellmark.example' },
  ],
  [
    '/apis/snapshot.storage.k8s.io/v1/volumesnapshotclasses',
    {
      apiVersion: 'snapshot.storage.k8s.io/v1',
      kind: 'VolumeSnapshotClass',
      metadata: { name: 'berth' },
      driver: 'berth.quellmark.example',
      deletionPolicy: 'Delete',
    },
  ],
  ['/api/v1/namespaces', { apiVersion: 'v1', kind: 'Namespace', metadata: { name: HOME } }],
  [`/api/v1/namespaces/${HOME}/configmaps`, settings('0')],
  [
    `/api/v1/namespaces/${HOME}/persistentvolumeclaims`,
    {
      apiVersion: 'v1',
      kind: 'PersistentVolumeClaim',
      metadata: { name: 'data', namespace: HOME },
      spec: { accessModes: ['ReadWriteOnce'], storageClassName: 'berth', resources: { requests: { storage: '1Gi' } } },
    },
  ],
  [
    `/apis/apps/v1/namespaces/${HOME}/deployments`,
    workload('clerk', [{ name: 'data', persistentVolumeClaim: { claimName: 'data' } }], [{ name: 'data', mountPath: '/data' }]),
  ],
  [`/apis/apps/v1/namespaces/${HOME}/deployments`, workload('porter', [], [])],
]
