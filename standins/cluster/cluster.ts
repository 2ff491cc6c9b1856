import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { prepared, withDefaults } from './admission'
import { Lifecycle } from './lifecycle'
import { Objects } from './objects'
import type { Parts } from './parts'
import { Pods } from './pods'
import { builtIn, customTypes, type KubeObject, type ResourceType } from './resources'
import { Volumes } from './volumes'
import { Workloads } from './workloads'

export interface ClusterOptions {
  name: string
  folder: string
  nodes: number
  /** API groups that this cluster does not have, and versions of the exec protocol that it does not speak. */
  without: string[]
  version: string
}

const LOOK_AGAIN_MS = 500

/** A cluster in one process: what it holds, and the controllers that act on it. */
export class Cluster {
  readonly objects = new Objects()
  readonly pods: Pods
  readonly lifecycle: Lifecycle
  private readonly volumes: Volumes
  private readonly workloads: Workloads
  private readonly builtIn: ResourceType[]
  private due: NodeJS.Immediate | undefined
  private readonly timer: NodeJS.Timeout
  private dirty = false
  private closed = false

  constructor(readonly options: ClusterOptions) {
    mkdirSync(options.folder, { recursive: true })
    this.builtIn = builtIn(options.without)
    const parts: Parts = {
      objects: this.objects,
      types: () => this.types(),
      typeOf: (kind) => this.types().find((type) => type.kind === kind && !type.custom)!,
      folder: options.folder,
    }
    this.pods = new Pods(parts, () => this.volumes)
    this.volumes = new Volumes(parts, (claim) => this.pods.freeze(claim))
    this.workloads = new Workloads(parts)
    this.lifecycle = new Lifecycle(parts, () => this.types())
    this.load()
    this.objects.on('change', () => {
      this.dirty = true
      this.due ??= setImmediate(() => this.look())
    })
    this.timer = setInterval(() => {
      this.look()
      this.save()
    }, LOOK_AGAIN_MS)
    this.begin()
  }

  types(): ResourceType[] {
    const definitions = this.objects.list({ group: 'apiextensions.k8s.io', plural: 'customresourcedefinitions' })
    return [...this.builtIn, ...definitions.flatMap(customTypes)]
  }

  /** What every cluster has from its beginning. */
  private begin(): void {
    const ensure = (kind: string, name: string, body: Record<string, unknown> = {}) => {
      const type = this.builtIn.find((served) => served.kind === kind)!
      if (!this.objects.find(type, undefined, name))
        this.objects.create(type, withDefaults(prepared(type, undefined, { kind, metadata: { name }, ...body }, 'cluster'), this.objects))
    }
    for (let i = 1; i <= this.options.nodes; i++)
      ensure('Node', `${this.options.name}-${i}`, {
        status: { conditions: [{ type: 'Ready', status: 'True' }], nodeInfo: { kubeletVersion: this.options.version } },
      })
    ensure('Namespace', 'default')
    ensure('Namespace', 'kube-system')
  }

  private look(): void {
    this.due = undefined
    if (this.closed) return
    for (const part of [this.lifecycle, this.workloads, this.volumes, this.pods]) part.look()
  }

  private get file(): string {
    return join(this.options.folder, 'objects.json')
  }

  private load(): void {
    if (!existsSync(this.file)) return
    this.objects.load(JSON.parse(readFileSync(this.file, 'utf8')))
    this.pods.restarted()
  }

  private save(): void {
    if (!this.dirty) return
    this.dirty = false
    writeFileSync(`${this.file}.new`, JSON.stringify(this.objects.save()))
    renameSync(`${this.file}.new`, this.file)
  }

  async close(): Promise<void> {
    this.closed = true
    clearInterval(this.timer)
    await this.pods.close()
    this.save()
  }
}

/** Deleting a definition takes everything of its kind with it. */
export function removeOfDefinition(cluster: Cluster, definition: KubeObject): void {
  for (const type of customTypes(definition))
    for (const { metadata } of cluster.objects.list(type)) cluster.objects.remove(type, metadata.namespace, metadata.name)
}
