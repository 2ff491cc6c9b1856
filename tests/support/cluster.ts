import { spawnSync } from 'node:child_process'
import { randomUUID } from 'node:crypto'
import { join } from 'node:path'
import { inject, vi } from 'vitest'
import { stringify } from 'yaml'
import { ClusterProcess, type ClusterStart } from '../../standins/cluster/start'

export type Body = Record<string, unknown>

/** A stand-in cluster of a test's own, spoken to with Debian's client, which nobody here wrote. */
export class TestCluster {
  private constructor(
    readonly process: ClusterProcess,
    readonly folder: string,
  ) {}

  static async start(name: string, options: Partial<ClusterStart> = {}): Promise<TestCluster> {
    const folder = options.folder ?? join(inject('folder'), `${name}-${randomUUID().slice(0, 8)}`)
    return new TestCluster(await ClusterProcess.start({ name, ...options, folder }), folder)
  }

  run(args: string[], input?: string): { status: number | null; stdout: string; stderr: string } {
    return spawnSync('.tools/usr/bin/kubectl', args, {
      input,
      encoding: 'utf8',
      maxBuffer: 1 << 28,
      env: { ...process.env, KUBECONFIG: this.process.kubeconfig, HOME: this.folder },
    })
  }

  kubectl(...args: string[]): string {
    const { status, stdout, stderr } = this.run(args)
    if (status !== 0) throw new Error(`kubectl ${args.join(' ')}: ${stderr}`)
    return stdout.trim()
  }

  apply(...objects: Body[]): string {
    const { status, stdout, stderr } = this.run(
      ['apply', '-f', '-'],
      objects.map((object) => stringify(object, { version: '1.1' })).join('---\n'),
    )
    if (status !== 0) throw new Error(`kubectl apply: ${stderr}`)
    return stdout.trim()
  }

  // What the API holds has no type here.
  // eslint-disable-next-line @typescript-eslint/no-explicit-any
  json<T = any>(...args: string[]): T {
    return JSON.parse(this.kubectl(...args, '-o', 'json')) as T
  }

  async until(holds: () => boolean | Promise<boolean>): Promise<void> {
    await vi.waitFor(
      async () => {
        if (!(await holds())) throw new Error('it is not so yet')
      },
      { timeout: 30_000, interval: 100 },
    )
  }

  /** Where a claim's volume lies. */
  volume(claim: string, home: string): string {
    return join(this.folder, 'volumes', this.json('get', 'pvc', claim, '-n', home).spec.volumeName)
  }

  /** How much there is of what backups and restores make for a time. */
  temporary(): number {
    return this.json('get', 'pods,pvc,volumesnapshots', '-A', '-l', 'unbroken-vessel.temporary').items.length
  }

  stop(signal?: NodeJS.Signals): Promise<void> {
    return this.process.stop(signal)
  }
}

export const namespace = (name: string, labels: Record<string, string> = {}): Body => ({
  apiVersion: 'v1',
  kind: 'Namespace',
  metadata: { name, labels },
})

export const storage = (name: string, more: Body = {}): Body => ({
  apiVersion: 'storage.k8s.io/v1',
  kind: 'StorageClass',
  metadata: { name },
  provisioner: `${name}.quellmark.example`,
  ...more,
})

export const snapshots = (name: string, parameters: Record<string, string> = {}): Body => ({
  apiVersion: 'snapshot.storage.k8s.io/v1',
  kind: 'VolumeSnapshotClass',
  metadata: { name },
  driver: `${name}.quellmark.example`,
  deletionPolicy: 'Delete',
  parameters,
})

export const claim = (name: string, home: string, storageClassName: string): Body => ({
  apiVersion: 'v1',
  kind: 'PersistentVolumeClaim',
  metadata: { name, namespace: home },
  spec: { accessModes: ['ReadWriteOnce'], storageClassName, resources: { requests: { storage: '1Gi' } } },
})

/** What does nothing but have a volume. */
export const holder = (home: string, claimName: string): Body => ({
  apiVersion: 'apps/v1',
  kind: 'Deployment',
  metadata: { name: `holds-${claimName}`, namespace: home },
  spec: {
    replicas: 1,
    selector: { matchLabels: { holds: claimName } },
    template: {
      metadata: { labels: { holds: claimName } },
      spec: {
        containers: [{ name: 'main', image: 'kiosk:1', volumeMounts: [{ name: 'data', mountPath: '/data' }] }],
        volumes: [{ name: 'data', persistentVolumeClaim: { claimName } }],
      },
    },
  },
})

/** The manifest service: a journal and an index that must agree, on a volume. */
export const manifestService = (home: string, storageClassName: string): Body => ({
  apiVersion: 'apps/v1',
  kind: 'StatefulSet',
  metadata: { name: 'manifest', namespace: home },
  spec: {
    serviceName: 'manifest',
    replicas: 1,
    selector: { matchLabels: { app: 'manifest' } },
    template: {
      metadata: { labels: { app: 'manifest' } },
      spec: {
        containers: [
          {
            name: 'service',
            image: 'images.quellmark.example/manifest-service:2.1',
            args: ['/data'],
            volumeMounts: [{ name: 'data', mountPath: '/data' }],
            readinessProbe: { exec: { command: ['manifestctl', 'status'] } },
          },
        ],
      },
    },
    volumeClaimTemplates: [
      {
        metadata: { name: 'data' },
        spec: { accessModes: ['ReadWriteOnce'], storageClassName, resources: { requests: { storage: '1Gi' } } },
      },
    ],
  },
})

const RBAC = 'rbac.authorization.k8s.io'

/** Lets a user do anything. */
export const anyRight = (user: string): Body[] => [
  {
    apiVersion: `${RBAC}/v1`,
    kind: 'ClusterRole',
    metadata: { name: 'anything' },
    rules: [{ apiGroups: ['*'], resources: ['*'], verbs: ['*'] }],
  },
  {
    apiVersion: `${RBAC}/v1`,
    kind: 'ClusterRoleBinding',
    metadata: { name: user },
    roleRef: { apiGroup: RBAC, kind: 'ClusterRole', name: 'anything' },
    subjects: [{ kind: 'User', apiGroup: RBAC, name: user }],
  },
]
