import { randomBytes } from 'node:crypto'
import { spawn } from 'node:child_process'
import { mkdirSync, readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { Writable } from 'node:stream'
import type { ClusterObject } from '../core/cluster/clean'
import { planNamespace } from '../core/cluster/plan'
import { objectKey, type ClusterState } from '../core/cluster/target'
import { clusterWishOf } from '../core/cluster/wish'
import type { NamespaceManifest } from '../core/content/manifest'
import { wishOf } from '../core/restore/wish'
import { select, type Rule } from '../core/selection/rules'
import { objectPath, withinAny, type Thing } from '../core/things/thing'
import { countInWords } from '../core/time/words'
import { addSource } from '../engine/catalog/sources'
import { addStore } from '../engine/catalog/stores'
import { addVessel, type Vessel } from '../engine/catalog/vessels'
import { readKubeconfig } from '../engine/sources/kubernetes/access'
import { ClusterClient, type KubeObject } from '../engine/sources/kubernetes/client'
import { execute } from '../engine/sources/kubernetes/exec'
import { ClusterProcess } from '../standins/cluster/start'
import { Bench, best, folder, report, ROUNDS, timed } from './support'

// A namespace with many things and a volume of many files, against plain tar over the same stream.

const THINGS = Number(process.env.THINGS ?? 2000)
const FILES = Number(process.env.FILES ?? 20_000)
const BYTES = Number(process.env.BYTES ?? 1_000_000_000)
const HOME = 'port'
const HELD = 'gate'
const PLANNED = 10_000

/** The first gives no snapshots: the stand-in's storage would copy everything for one, which is not what is measured. */
const STORAGE = [
  { apiVersion: 'storage.k8s.io/v1', kind: 'StorageClass', metadata: { name: 'rope' }, provisioner: 'rope.quellmark.example' },
  { apiVersion: 'storage.k8s.io/v1', kind: 'StorageClass', metadata: { name: 'berth' }, provisioner: 'berth.quellmark.example' },
  {
    apiVersion: 'snapshot.storage.k8s.io/v1',
    kind: 'VolumeSnapshotClass',
    metadata: { name: 'berth' },
    driver: 'berth.quellmark.example',
    deletionPolicy: 'Delete',
  },
]
const application = (namespace: string, storageClassName: string) => [
  {
    apiVersion: 'v1',
    kind: 'PersistentVolumeClaim',
    metadata: { name: 'data', namespace },
    spec: { accessModes: ['ReadWriteOnce'], storageClassName, resources: { requests: { storage: '4Gi' } } },
  },
  {
    apiVersion: 'v1',
    kind: 'Pod',
    metadata: { name: 'holder', namespace, labels: { app: 'holder' } },
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
  await create(client, '/apis/storage.k8s.io/v1/storageclasses', STORAGE[1])
  await create(client, '/apis/snapshot.storage.k8s.io/v1/volumesnapshotclasses', STORAGE[2])
  await furnishNamespace(client, HOME, 'rope')
  await furnishNamespace(client, HELD, 'berth')
}

async function furnishNamespace(client: ClusterClient, namespace: string, storageClass: string): Promise<void> {
  await create(client, '/api/v1/namespaces', { metadata: { name: namespace } })
  for (let i = 0; i < THINGS; i++)
    await create(client, `/api/v1/namespaces/${namespace}/configmaps`, {
      metadata: { name: `settings-${i}` },
      data: { lanes: String(i), text: 'x'.repeat(600) },
    })
  const [claim, pod] = application(namespace, storageClass)
  await create(client, `/api/v1/namespaces/${namespace}/persistentvolumeclaims`, claim)
  await create(client, `/api/v1/namespaces/${namespace}/pods`, pod)
  for (;;) {
    const now = await client.ask<KubeObject>(`/api/v1/namespaces/${namespace}/pods/holder`)
    if (now.status?.phase === 'Running') return
    await new Promise((resolve) => setTimeout(resolve, 200))
  }
}

/** Half text-like, half random, as volumes are. */
function write(path: string, size: number): void {
  const random = randomBytes(size >> 1)
  writeFileSync(path, Buffer.concat([random, Buffer.alloc(size - random.length, 'gate 4, foot passengers, ')]))
}

export async function clusterPart(): Promise<void> {
  const cluster = await ClusterProcess.start({ name: 'pier', folder: join(folder, 'pier') })
  const access = { name: 'pier', ...readKubeconfig(readFileSync(cluster.kubeconfig, 'utf8')) }
  const client = new ClusterClient(access)
  await Bench.with(
    2,
    () => undefined,
    async (bench) => {
      await furnish(client)
      const claim = await client.ask<KubeObject>(`/api/v1/namespaces/${HOME}/persistentvolumeclaims/data`)
      const volume = join(folder, 'pier', 'volumes', String(claim.spec!.volumeName))
      for (let i = 0; i < FILES; i++) {
        if (i % 200 === 0) mkdirSync(join(volume, String(i / 200)))
        write(join(volume, String(Math.floor(i / 200)), `${i}.dat`), Math.round(BYTES / FILES))
      }
      await addSource(bench.engine, access)
      const target = { namespace: HOME, pod: 'holder', container: 'main' }
      const plain = await best(() =>
        timed(() => {
          const nowhere = new Writable({ highWaterMark: 1 << 20, write: (_, __, done) => done() })
          return execute(client, target, ['tar', '-cf', '-', '-C', '/data', '.'], nowhere, AbortSignal.timeout(600_000))
        }),
      )
      const firsts = await firstBackups(bench)
      const seconds = Math.min(...firsts.map((run) => run.seconds))
      const { vessel, stored } = firsts.at(-1)!
      console.log(`plain tar ${plain.toFixed(1)} s, first backup ${seconds.toFixed(1)} s, ${(stored / 1e6).toFixed(0)} MB stored`)
      bench.tell('throughput of a first backup, against plain tar over the same exec stream', plain / seconds, 0.7)
      for (let i = 0; i < FILES; i += 100) write(join(volume, String(Math.floor(i / 200)), `${i}.dat`), Math.round(BYTES / FILES))
      const second = await bench.run('backup', {}, vessel)
      console.log(`second backup ${second.seconds.toFixed(1)} s`)
      bench.tell(
        'a second backup with 1 % of the files changed: stored, of the first',
        (second.outcome.stored / stored) * 100,
        2,
        '%',
        true,
      )
      bench.tell(
        'a volume that is made anew from a point, read back and proven: throughput, against plain tar into one over the same stream',
        await returnShare(bench, client, volume),
        0.25,
      )
      bench.tell('a hold with snapshots, beyond what its hooks take', await holdSeconds(bench), 1, 's', true)
      bench.tell('50 rules over 100,000 things, the best of three times', Math.min(rulesMs(), rulesMs(), rulesMs()), 200, 'ms', true)
      bench.tell(
        `a plan over ${countInWords(PLANNED)} things`,
        planMs(() => [`pier/${HOME}`]),
        500,
        'ms',
        true,
      )
      bench.tell(
        'the same of all but one, picked one by one',
        planMs((paths) => paths.slice(1)),
        500,
        'ms',
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

/** Each into a store of its own, so that nothing of it is there yet. */
async function firstBackups(bench: Bench): Promise<{ vessel: Vessel; seconds: number; stored: number }[]> {
  const all = []
  for (let round = 0; round < ROUNDS; round++) {
    await addStore(bench.engine, { name: `port ${round}`, path: join(folder, `port-${round}`) })
    const vessel = await addVessel(bench.engine, `Port ${round}`, {
      rules: [{ id: 'a', act: 'take', kind: 'namespace', pattern: `pier/${HOME}` }],
      store: `port ${round}`,
      promises: { couldLose: null, backWithin: null },
      readers: 2,
    })
    const { seconds, outcome } = await bench.run('backup', {}, vessel)
    all.push({ vessel, seconds, stored: outcome.stored })
  }
  return all
}

/** How a return of the volume's whole content, with its proof, compares with tar alone, both into an empty one. */
async function returnShare(bench: Bench, client: ClusterClient, volume: string): Promise<number> {
  const target = { namespace: HOME, pod: 'holder', container: 'main' }
  const into = ['sh', '-c', 'mkdir /data/plain && tar -xf - -C /data/plain']
  const plain = await best(async () => {
    const tar = spawn('tar', ['-cf', '-', '--exclude=./plain', '-C', volume, '.'], { stdio: ['ignore', 'pipe', 'inherit'] })
    const nowhere = new Writable({ write: (_, __, done) => done() })
    const seconds = await timed(() => execute(client, target, into, nowhere, AbortSignal.timeout(600_000), tar.stdout))
    rmSync(join(volume, 'plain'), { recursive: true })
    return seconds
  })
  const vessel = await addVessel(bench.engine, 'Port again', {
    rules: [{ id: 'a', act: 'take', kind: 'volume', pattern: `pier/${HOME}/volume/data` }],
    store: 'store',
    promises: { couldLose: null, backWithin: null },
    readers: 2,
  })
  const { outcome } = await bench.run('backup', {}, vessel)
  for (const name of readdirSync(volume)) rmSync(join(volume, name), { recursive: true })
  const wish = wishOf({ picks: [`pier/${HOME}/volume/data`], collide: 'replace', cluster: clusterWishOf({}) })
  const { seconds } = await bench.run('restore', { point: outcome.point, wish, reason: 'the benchmark' }, vessel)
  console.log(`plain tar into a volume ${plain.toFixed(1)} s, a return with its proof ${seconds.toFixed(1)} s`)
  return plain / seconds
}

/** Seconds from the last hook that held to the first that released, while a namespace with a volume is captured. */
async function holdSeconds(bench: Bench): Promise<number> {
  const act = { kind: 'exec' as const, selector: 'app=holder', container: '', pods: 'one' as const, active: '', command: ['true'] }
  const vessel = await addVessel(bench.engine, 'Gate', {
    rules: [{ id: 'a', act: 'take', kind: 'namespace', pattern: `pier/${HELD}` }],
    store: 'store',
    promises: { couldLose: null, backWithin: null },
    readers: 2,
    quiesce: {
      budgetMs: 30_000,
      steps: [{ id: 'a', name: 'hold', member: `pier/${HELD}`, turn: 0, act, release: act, limitMs: 5000, onFailure: 'stop' }],
    },
  })
  await bench.run('backup', {}, vessel)
  const steps = await bench.engine.db.selectFrom('run_step').selectAll().where('kind', 'in', ['hold', 'release']).execute()
  const of = (kind: string) => steps.find((step) => step.kind === kind)!
  return (of('release').started_at!.getTime() - of('hold').finished_at!.getTime()) / 1000
}

/** Half of the rules name namespaces, a quarter things of one, and a quarter things wherever they are. */
const ruleNaming = (i: number): Pick<Rule, 'kind' | 'pattern'> => {
  if (i % 2 === 0) return { kind: 'namespace', pattern: `pier/pier-${i}*` }
  return { kind: 'object', pattern: i % 4 === 1 ? `pier/pier-${i}/core/*/settings-*` : `*/pier-*/core/*/settings-${i}*` }
}

/** Milliseconds to evaluate fifty rules over things in five hundred namespaces. */
function rulesMs(): number {
  const things = Array.from({ length: 100_000 }, (_, i): Thing => ({
    path: objectPath('pier', `pier-${i % 500}`, '', 'ConfigMap', `settings-${i}`),
    kind: 'object',
    labels: {},
    facts: {},
  }))
  const rules = Array.from({ length: 50 }, (_, i): Rule => ({
    id: String(i),
    act: i % 3 === 0 ? 'leave' : 'take',
    ...ruleNaming(i),
  }))
  const began = performance.now()
  const { taken, left, unnamed } = select(rules, things)
  const took = performance.now() - began
  if (taken.length === 0 || left.length === 0 || taken.length + left.length + unnamed.length !== things.length)
    throw new Error('the rules do not decide as they should')
  return took
}

/** Milliseconds to plan a namespace of many things against a cluster in which all of them stand, a tenth of them changed. */
function planMs(picksOf: (paths: string[]) => string[]): number {
  const objects = Array.from({ length: PLANNED }, (_, i): ClusterObject => ({
    apiVersion: 'v1',
    kind: 'ConfigMap',
    metadata: { name: `settings-${i}`, namespace: HOME },
    data: { lanes: String(i), text: 'x'.repeat(200) },
  }))
  const standing = objects.map((object, i) => (i % 10 === 0 ? { ...object, data: { lanes: 'another' } } : object))
  const key = ({ metadata }: ClusterObject) => objectKey('', 'ConfigMap', HOME, metadata.name)
  const manifest: NamespaceManifest = {
    name: HOME,
    at: '',
    labels: {},
    objects: objects.map(({ metadata: { name } }, line) => ({
      path: `pier/${HOME}/core/ConfigMap/${name}`,
      group: '',
      version: 'v1',
      kind: 'ConfigMap',
      name,
      labels: {},
      digest: '',
      bytes: 0,
      line,
      uses: [],
    })),
    chunks: [],
    volumes: [],
    missing: [],
  }
  const target: ClusterState = {
    source: 'pier',
    served: [{ group: '', version: 'v1', plural: 'configmaps', kind: 'ConfigMap', namespaced: true }],
    objects: new Map(standing.map((object) => [key(object), object])),
    namespaces: new Map([[HOME, { phase: 'Active', labels: {} }]]),
    classes: [],
    defaultClass: null,
    quotas: [],
  }
  const picks = picksOf(manifest.objects.map(({ path }) => path))
  const asked = { picks, collide: 'replace' as const, each: {}, cluster: clusterWishOf({ labels: { copy: 'yes' } }) }
  const began = performance.now()
  const { plan } = planNamespace({ source: 'pier', manifest, objects, target, asked })
  const took = performance.now() - began
  const isPicked = withinAny(picks)
  if (plan.operations.length !== manifest.objects.filter(({ path }) => isPicked(path)).length) throw new Error('the plan is not whole')
  return took
}
