import { apiVersionOf } from '../core/cluster/versions'
import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { PassThrough } from 'node:stream'
import { parseAllDocuments } from 'yaml'
import type { VesselDefinition } from '../core/plan/definition'
import type { Act, HoldStep } from '../core/quiesce/sequence'
import type { Rule } from '../core/selection/rules'
import { addRun } from '../engine/catalog/runs'
import { addSource, discoverSource } from '../engine/catalog/sources'
import { addVessel, saveDefinition, vesselBySlug, type Vessel } from '../engine/catalog/vessels'
import type { Engine } from '../engine/engine'
import { perform } from '../engine/runs/runner'
import { readKubeconfig } from '../engine/sources/kubernetes/access'
import { ApiFailure, ClusterClient, resourcePath, type KubeObject } from '../engine/sources/kubernetes/client'
import { execute } from '../engine/sources/kubernetes/exec'
import { ClusterProcess } from '../standins/cluster/start'
import type { ScenarioClock } from './history'

const NAMES = ['pier', 'islet'] as const
type Name = (typeof NAMES)[number]

/** The two clusters of the scenario, each a process of its own. */
export class DemoClusters {
  private readonly running = new Map<Name, ClusterProcess>()

  constructor(
    private readonly root: string,
    private readonly folder: string,
    private readonly ports: Record<Name, number>,
  ) {}

  async start(): Promise<void> {
    for (const name of NAMES)
      this.running.set(
        name,
        await ClusterProcess.start({ name, folder: join(this.folder, name), port: this.ports[name], nodes: name === 'pier' ? 3 : 1 }),
      )
  }

  private access(name: Name) {
    return { name, ...readKubeconfig(readFileSync(this.running.get(name)!.kubeconfig, 'utf8')) }
  }

  /** Puts into them what they hold at the beginning, and connects them. */
  async furnish(engine: Engine): Promise<void> {
    for (const name of NAMES) {
      const client = new ClusterClient(this.access(name))
      try {
        const text = readFileSync(join(this.root, 'demo', 'clusters', `${name}.yaml`), 'utf8')
        for (const document of parseAllDocuments(text)) await make(client, document.toJS() as KubeObject)
      } finally {
        client.close()
      }
      if (name === 'pier') await this.workOnce()
      await addSource(engine, this.access(name))
    }
  }

  /** What the applications have written by now. */
  private async workOnce(): Promise<void> {
    const client = new ClusterClient(this.access('pier'))
    try {
      await ready(client, 'boarding')
      const [kiosk] = await ready(client, 'kiosk')
      const target = { namespace: 'kiosk', pod: kiosk!, container: 'kiosk' }
      await execute(client, target, ['sh', '-c', RECEIPTS], new PassThrough().resume(), AbortSignal.timeout(20_000))
    } finally {
      client.close()
    }
  }

  /** The vessels of clusters, and their first points; a hook of one of them was too slow on Thursday night. */
  async protect(engine: Engine, clock: ScenarioClock, now: Date): Promise<void> {
    const common = { store: 'dry-dock', readers: 2, promises: { couldLose: 24 * 3_600_000, backWithin: 3_600_000 } }
    const take = (namespace: string): Rule => ({ id: namespace, act: 'take', kind: 'namespace', pattern: `pier/${namespace}` })
    const gate: VesselDefinition = {
      ...common,
      rules: [take('boarding'), { id: 'sales', act: 'take', kind: 'schema', pattern: 'ferry-db/bookings/sales' }],
      quiesce: { steps: [holdSales, flushGate, pauseGate], budgetMs: 8000 },
    }
    const backUp = async (vessel: Vessel) =>
      perform(engine, await addRun(engine, { kind: 'backup', vessel, startedBy: 'the schedule of the demo' }))
    clock.set(thursdayNight(now))
    const boarding = await addVessel(engine, 'Boarding gate', gate)
    await backUp(boarding)
    clock.set(undefined)
    const mended = { ...gate, quiesce: { steps: [holdSales, pauseGate], budgetMs: 5000 } }
    await saveDefinition(engine, boarding.slug, 1, mended)
    await backUp(await vesselBySlug(engine, boarding.slug))
    for (const [name, rules] of [
      ['Kiosks', [take('kiosk')]],
      ['Timetable site', [take('timetable-web')]],
    ] as const)
      await backUp(await addVessel(engine, name, { ...common, rules: [...rules] }))
  }

  /** Somebody removed the namespace of the kiosks this morning. */
  async loseKiosks(engine: Engine): Promise<void> {
    const client = new ClusterClient(this.access('pier'))
    try {
      await client.ask('/api/v1/namespaces/kiosk', { method: 'DELETE' })
      while (
        await client.ask('/api/v1/namespaces/kiosk').then(
          () => true,
          (error: unknown) => !(error instanceof ApiFailure && error.status === 404),
        )
      )
        await new Promise((resolve) => setTimeout(resolve, 200))
    } finally {
      client.close()
    }
    const { id } = await engine.db.selectFrom('source').select('id').where('name', '=', 'pier').executeTakeFirstOrThrow()
    await discoverSource(engine, id)
  }

  async stop(): Promise<void> {
    await Promise.all([...this.running.values()].map((pod) => pod.stop()))
  }
}

const ofGate = (...command: string[]): Act => ({
  kind: 'exec',
  selector: 'app=manifest',
  container: 'service',
  pods: 'one',
  active: '',
  command,
})
const holdSales: HoldStep = {
  id: 'hold-sales',
  name: 'hold sales',
  member: 'ferry-db/bookings',
  turn: 0,
  act: { kind: 'sql', statement: 'begin; lock table sales.booking, sales.booking_leg, sales.payment in share mode' },
  limitMs: 3000,
  onFailure: 'stop',
  release: { kind: 'sql', statement: 'commit' },
}
const pauseGate: HoldStep = {
  id: 'pause-manifest',
  name: 'pause manifest',
  member: 'pier/boarding',
  turn: 1,
  act: ofGate('manifestctl', 'hold'),
  limitMs: 2000,
  onFailure: 'stop',
  release: ofGate('manifestctl', 'release'),
}
/** It was meant to bring everything to the disk, and never came to an end in its second. */
const flushGate: HoldStep = {
  ...pauseGate,
  id: 'flush-manifest',
  name: 'flush manifest',
  act: ofGate('sleep', '30'),
  limitMs: 1000,
  onFailure: 'go on',
  release: ofGate('true'),
}

function thursdayNight(now: Date): Date {
  const at = new Date(now)
  do at.setDate(at.getDate() - 1)
  while (at.getDay() !== 4)
  at.setHours(23, 10, 0, 0)
  return at
}

/** Some months of receipts of a kiosk, made up. */
const RECEIPTS = `cd /var/receipts && for month in 09 10 11; do mkdir -p 2026/$month; for day in 01 02 03 04 05 06 07 08; do
  { echo "till,item,price"; for i in 1 2 3 4 5 6 7 8 9; do echo "$((i % 3 + 1)),coffee,3.20"; echo "$((i % 2 + 1)),bun,2.80"; done; } > 2026/$month/$day.csv; done; done; echo 'Receipts are kept for ten years.' > README`

/** Waits until all pods of a namespace are ready; gives their names. */
async function ready(client: ClusterClient, namespace: string): Promise<string[]> {
  for (;;) {
    const { items } = await client.ask<{ items: KubeObject[] }>(`/api/v1/namespaces/${namespace}/pods`)
    const isReady = ({ status }: KubeObject) =>
      (status?.conditions as { type: string; status: string }[] | undefined)?.some(
        (condition) => condition.type === 'Ready' && condition.status === 'True',
      )
    if (items.length > 0 && items.every(isReady)) return items.map(({ metadata }) => metadata.name)
    await new Promise((resolve) => setTimeout(resolve, 200))
  }
}

async function make(client: ClusterClient, object: KubeObject): Promise<void> {
  const resources = await client.resources()
  const resource = resources.find((resource) => apiVersionOf(resource) === object.apiVersion && resource.kind === object.kind)
  if (!resource) throw new Error(`the cluster serves no ${object.apiVersion} ${object.kind}`)
  await client.ask(resourcePath(resource, object.metadata.namespace), { method: 'POST', body: object }).catch((error: unknown) => {
    if (!(error instanceof ApiFailure && error.reason === 'AlreadyExists')) throw error
  })
}
