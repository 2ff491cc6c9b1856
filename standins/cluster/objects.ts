import { randomUUID } from 'node:crypto'
import { EventEmitter } from 'node:events'
import { apiVersionOf, keyOf, tableOf, type KubeObject, type ResourceType } from './resources'
import { conflict, exists, Failure, notFound } from './failure'

export interface WatchEvent {
  type: 'ADDED' | 'MODIFIED' | 'DELETED'
  table: string
  version: number
  object: KubeObject
  /** How it was before, for watchers that only see some. */
  before: KubeObject | undefined
}

/** Events that a watcher may still ask for; older ones are gone, as they are in a real cluster after a while. */
const REMEMBERED = 20_000

/**
 * Everything that the cluster holds, with its versions: each change has a number, writers that saw an older one are
 * refused, watchers get every change in order, and what has finalizers goes when they are gone.
 */
export class Objects extends EventEmitter<{ change: [WatchEvent] }> {
  private version = 1
  private readonly tables = new Map<string, Map<string, KubeObject>>()
  private readonly events: WatchEvent[] = []
  private forgotten = 0

  constructor() {
    super()
    this.setMaxListeners(0)
  }

  get resourceVersion(): string {
    return String(this.version)
  }

  private table(type: Pick<ResourceType, 'group' | 'plural'>): Map<string, KubeObject> {
    const name = tableOf(type)
    let table = this.tables.get(name)
    if (!table) this.tables.set(name, (table = new Map()))
    return table
  }

  list(type: Pick<ResourceType, 'group' | 'plural'>, namespace?: string): KubeObject[] {
    const all = [...this.table(type).values()]
    return namespace === undefined ? all : all.filter(({ metadata }) => metadata.namespace === namespace)
  }

  find(type: Pick<ResourceType, 'group' | 'plural'>, namespace: string | undefined, name: string): KubeObject | undefined {
    return this.table(type).get(keyOf(namespace, name))
  }

  get(type: ResourceType, namespace: string | undefined, name: string): KubeObject {
    const found = this.find(type, namespace, name)
    if (!found) throw notFound(type, name)
    return found
  }

  /** Every object of every type, for what looks at all of them. */
  *all(): Generator<KubeObject> {
    for (const table of this.tables.values()) yield* table.values()
  }

  create(type: ResourceType, object: KubeObject): KubeObject {
    const { namespace, name } = object.metadata
    if (this.find(type, namespace, name)) throw exists(type, name)
    const made = structuredClone(object)
    made.metadata.uid = randomUUID()
    made.metadata.creationTimestamp = new Date().toISOString().replace(/\.\d+Z$/, 'Z')
    made.metadata.generation = 1
    return this.put(type, 'ADDED', made, undefined)
  }

  /** @throws Failure 409 when the writer has not seen the newest version */
  update(type: ResourceType, object: KubeObject, part: 'spec' | 'status' = 'spec'): KubeObject {
    const { namespace, name, resourceVersion } = object.metadata
    const before = this.get(type, namespace, name)
    if (resourceVersion && resourceVersion !== before.metadata.resourceVersion)
      throw conflict(type, name, 'the object has been modified; please apply your changes to the latest version and try again')
    const after = structuredClone(object)
    const { uid, creationTimestamp, deletionTimestamp, deletionGracePeriodSeconds, generation } = before.metadata
    Object.assign(after.metadata, { uid, creationTimestamp })
    if (deletionTimestamp) Object.assign(after.metadata, { deletionTimestamp, deletionGracePeriodSeconds })
    if (part === 'status') Object.assign(after, { spec: before.spec, metadata: { ...before.metadata } })
    else if (hasStatus(type)) after.status = before.status
    const changed = JSON.stringify(contentOf(before)) !== JSON.stringify(contentOf(after))
    after.metadata.generation = (generation ?? 1) + (part === 'spec' && changed ? 1 : 0)
    after.metadata.resourceVersion = before.metadata.resourceVersion
    if (JSON.stringify(before) === JSON.stringify(after)) return before
    if (deletionTimestamp && !after.metadata.finalizers?.length && !isHeld(type, after)) return this.drop(type, after)
    return this.put(type, 'MODIFIED', after, before)
  }

  /** Marks for deletion what has finalizers, and removes what has none. */
  remove(type: ResourceType, namespace: string | undefined, name: string, grace = 0): KubeObject {
    const before = this.get(type, namespace, name)
    if (before.metadata.finalizers?.length || isHeld(type, before)) {
      if (before.metadata.deletionTimestamp) return before
      const after = structuredClone(before)
      after.metadata.deletionTimestamp = new Date().toISOString().replace(/\.\d+Z$/, 'Z')
      after.metadata.deletionGracePeriodSeconds = grace
      return this.put(type, 'MODIFIED', after, before)
    }
    return this.drop(type, before)
  }

  drop(type: ResourceType, object: KubeObject): KubeObject {
    const { namespace, name } = object.metadata
    const before = this.get(type, namespace, name)
    this.table(type).delete(keyOf(namespace, name))
    const gone = structuredClone(object)
    gone.metadata.resourceVersion = String(++this.version)
    this.tell({ type: 'DELETED', table: tableOf(type), version: this.version, object: gone, before })
    return gone
  }

  private put(type: ResourceType, what: 'ADDED' | 'MODIFIED', object: KubeObject, before: KubeObject | undefined): KubeObject {
    object.metadata.resourceVersion = String(++this.version)
    object.apiVersion = apiVersionOf(type)
    object.kind = type.kind
    this.table(type).set(keyOf(object.metadata.namespace, object.metadata.name), object)
    this.tell({ type: what, table: tableOf(type), version: this.version, object, before })
    return object
  }

  private tell(event: WatchEvent): void {
    this.events.push(event)
    if (this.events.length > REMEMBERED) this.forgotten = this.events.shift()!.version
    this.emit('change', event)
  }

  /** The changes of a table after a version. @throws Failure 410 when they are not remembered any more */
  since(table: string, version: number): WatchEvent[] {
    if (version < this.forgotten) throw new Failure(410, 'Expired', `too old resource version: ${version} (${this.forgotten})`)
    return this.events.filter((event) => event.table === table && event.version > version)
  }

  save(): unknown {
    return { version: this.version, tables: [...this.tables].map(([name, table]) => [name, [...table.values()]]) }
  }

  load(saved: { version: number; tables: [string, KubeObject[]][] }): void {
    this.version = this.forgotten = saved.version
    for (const [name, objects] of saved.tables)
      this.tables.set(name, new Map(objects.map((object) => [keyOf(object.metadata.namespace, object.metadata.name), object])))
  }
}

const hasStatus = (type: ResourceType) => type.subresources.includes('status')
const contentOf = ({ metadata: _, status: __, ...content }: KubeObject) => content
/** A pod that runs somewhere goes when its processes have ended, and a namespace when it is empty. */
const isHeld = (type: ResourceType, { spec, status }: KubeObject) =>
  type.kind === 'Namespace' || (type.kind === 'Pod' && Boolean(spec?.nodeName) && !['Succeeded', 'Failed'].includes(String(status?.phase)))
