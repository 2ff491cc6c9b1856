import { randomBytes } from 'node:crypto'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { Writable } from 'node:stream'
import { countInWords } from '../core/time/words'
import { addSource } from '../engine/catalog/sources'
import { addVessel } from '../engine/catalog/vessels'
import { readKubeconfig } from '../engine/sources/kubernetes/access'
import { ClusterClient, type KubeObject } from '../engine/sources/kubernetes/client'
import { execute } from '../engine/sources/kubernetes/exec'
import { ClusterProcess } from '../standins/cluster/start'
import { Bench, best, folder, report, timed } from './support'

// A namespace with many things and a volume of many files, against plain tar over the same stream.

const THINGS = Number(process.env.THINGS ?? 2000)
const FILES = Number(process.env.FILES ?? 20_000)
const BYTES = Number(process.env.BYTES ?? 1_000_000_000)
const HOME = 'port'

const STORAGE = [
  { apiVersion: 'storage.k8s.io/v1', kind: 'StorageClass', metadata: { name: 'berth' }, provisioner: 'berth.quellmark.example' },
  {
    apiVersion: 'snapshot.storage.k8s.io/v1',
    kind: 'VolumeSnapshotClass',
    metadata: { name: 'berth' },
    driver: 'berth.quellmark.example',
    deletionPolicy: 'Delete',
  },
]
const APPLICATION = [
  {
    apiVersion: 'v1',
    kind: 'PersistentVolumeClaim',
    metadata: { name: 'data', namespace: HOME },
    spec: { accessModes: ['ReadWriteOnce'], storageClassName: 'berth', resources: { requests: { storage: '4Gi' } } },
  },
  {
    apiVersion: 'v1',
    kind: 'Pod',
    metadata: { name: 'holder', namespace: HOME },
    spec: {
      containers: [
        { name: 'main', image: 'debian:12-slim', command: ['sleep', '100000'], volumeMounts: [{ name: 'data', mountPath: '/data' }] },
      ],
      volumes: [{ name: 'data', persistentVolumeClaim: { claimName: 'data' } }],
    },
  },
]

const create = (client: ClusterClient, path: string, body: unknown) => client.ask(path, { method: 'POST', body })

async function furnish(client: ClusterClient): Promise<void> {
  await create(client, '/apis/storage.k8s.io/v1/storageclasses', STORAGE[0])
  await create(client, '/apis/snapshot.storage.k8s.io/v1/volumesnapshotclasses', STORAGE[1])
  await create(client, '/api/v1/namespaces', { metadata: { name: HOME } })
  for (let i = 0; i < THINGS; i++)
    await create(client, `/api/v1/namespaces/${HOME}/configmaps`, {
      metadata: { name: `settings-${i}` },
      data: { lanes: String(i), text: 'x'.repeat(600) },
    })
  await create(client, `/api/v1/namespaces/${HOME}/persistentvolumeclaims`, APPLICATION[0])
  await create(client, `/api/v1/namespaces/${HOME}/pods`, APPLICATION[1])
  for (;;) {
    const pod = await client.ask<KubeObject>(`/api/v1/namespaces/${HOME}/pods/holder`)
    if (pod.status?.phase === 'Running') return
    await new Promise((resolve) => setTimeout(resolve, 200))
  }
}

/** Half text-like, half random, as volumes are. */
function write(path: string, size: number): void {
  const random = randomBytes(size >> 1)
  writeFileSync(path, Buffer.concat([random, Buffer.alloc(size - random.length, 'gate 4, foot passengers, ')]))
}

export async function clusterPart(): Promise<void> {
  const cluster = await ClusterProcess.start({ name: 'quay', folder: join(folder, 'quay') })
  const access = { name: 'quay', ...readKubeconfig(readFileSync(cluster.kubeconfig, 'utf8')) }
  const client = new ClusterClient(access)
  await Bench.with(
    2,
    () => undefined,
    async (bench) => {
      await furnish(client)
      const claim = await client.ask<KubeObject>(`/api/v1/namespaces/${HOME}/persistentvolumeclaims/data`)
      const volume = join(folder, 'quay', 'volumes', String(claim.spec!.volumeName))
      for (let i = 0; i < FILES; i++) {
        if (i % 200 === 0) mkdirSync(join(volume, String(i / 200)))
        write(join(volume, String(Math.floor(i / 200)), `${i}.dat`), Math.round(BYTES / FILES))
      }
      await addSource(bench.engine, access)
      const vessel = await addVessel(bench.engine, 'Port', {
        rules: [{ id: 'a', act: 'take', kind: 'namespace', pattern: `quay/${HOME}` }],
        store: 'store',
        promises: { couldLose: null, backWithin: null },
        readers: 2,
      })
      const target = { namespace: HOME, pod: 'holder', container: 'main' }
      const plain = await best(() =>
        timed(() => {
          const nowhere = new Writable({ highWaterMark: 1 << 20, write: (_, __, done) => done() })
          return execute(client, target, ['tar', '-cf', '-', '-C', '/data', '.'], nowhere, AbortSignal.timeout(600_000))
        }),
      )
      const first = await bench.run('backup', {}, vessel)
      console.log(
        `plain tar ${plain.toFixed(1)} s, first backup ${first.seconds.toFixed(1)} s, ${(first.outcome.stored / 1e6).toFixed(0)} MB stored`,
      )
      bench.tell('throughput of a first backup, against plain tar over the same exec stream', plain / first.seconds, 0.7)
      for (let i = 0; i < FILES; i += 100) write(join(volume, String(Math.floor(i / 200)), `${i}.dat`), Math.round(BYTES / FILES))
      const second = await bench.run('backup', {}, vessel)
      console.log(`second backup ${second.seconds.toFixed(1)} s`)
      bench.tell(
        'a second backup with 1 % of the files changed: stored, of the first',
        (second.outcome.stored / first.outcome.stored) * 100,
        2,
        '%',
        true,
      )
      const about = `a namespace of ${countInWords(THINGS)} things and a volume of ${countInWords(FILES)} files, ${BYTES / 1e9} GB`
      report('Namespaces', about, bench.figures)
    },
  ).finally(async () => {
    client.close()
    await cluster.stop()
  })
}
