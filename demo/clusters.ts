import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { parseAllDocuments } from 'yaml'
import { addSource } from '../engine/catalog/sources'
import type { Engine } from '../engine/engine'
import { readKubeconfig } from '../engine/sources/kubernetes/access'
import { ApiFailure, ClusterClient, resourcePath, type KubeObject } from '../engine/sources/kubernetes/client'
import { ClusterProcess } from '../standins/cluster/start'

const NAMES = ['quay', 'islet'] as const
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
        await ClusterProcess.start({ name, folder: join(this.folder, name), port: this.ports[name], nodes: name === 'quay' ? 3 : 1 }),
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
      await addSource(engine, this.access(name))
    }
  }

  async stop(): Promise<void> {
    await Promise.all([...this.running.values()].map((one) => one.stop()))
  }
}

async function make(client: ClusterClient, object: KubeObject): Promise<void> {
  const resources = await client.resources()
  const [group, version] = object.apiVersion!.includes('/') ? object.apiVersion!.split('/') : ['', object.apiVersion]
  const resource = resources.find((one) => one.group === group && one.version === version && one.kind === object.kind)
  if (!resource) throw new Error(`the cluster serves no ${object.apiVersion} ${object.kind}`)
  await client.ask(resourcePath(resource, object.metadata.namespace), { method: 'POST', body: object }).catch((error: unknown) => {
    if (!(error instanceof ApiFailure && error.reason === 'AlreadyExists')) throw error
  })
}
