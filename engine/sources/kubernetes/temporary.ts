import { randomUUID } from 'node:crypto'
import { apiVersionOf } from '../../../core/cluster/versions'
import { VesselError } from '../../../core/errors'
import { ApiFailure, resourcePath, type ApiResource, type ClusterClient, type KubeObject } from './client'
import { SNAPSHOT_GROUP } from './storage'

/** What we make in a cluster for as long as we read bears this label, and goes when we are done. */
const LABEL = 'unbroken-vessel.temporary'
const LOOK_EVERY_MS = 150
const LEFT_WITHIN_MS = 30_000

/** What somebody looks at who is no run is made by such a one, and needed for no longer than this, whatever the clocks are. */
const LOOK = 'look-'
const LOOKED_WITHIN_MS = 10 * 60_000
export const newLook = () => `${LOOK}${randomUUID()}`

/** What stays there for a point, with the run that made it, until it is read into the store. */
const KEPT = 'unbroken-vessel.kept'

export const isOurs = ({ metadata }: KubeObject): boolean => metadata.labels?.[LABEL] !== undefined || metadata.labels?.[KEPT] !== undefined

/** The things that one run makes in a cluster; `removeAll` leaves nothing of them. */
export class Temporary {
  private readonly made: { resource: ApiResource; namespace: string; name: string }[] = []
  private count = 0

  constructor(
    private readonly client: ClusterClient,
    private readonly resources: ApiResource[],
    /** The run that it is made for, or a look (`newLook`). */
    private readonly run: string,
    private readonly signal: AbortSignal,
  ) {}

  resource(kind: string, group = ''): ApiResource {
    const found = this.resources.find((resource) => resource.kind === kind && resource.group === group)
    if (found) return found
    throw new VesselError('kind_missing', {
      what: `${this.client.access.name} serves no ${kind}${group ? ` of ${group}` : ''}.`,
      touched: 'Nothing was changed.',
      next: 'Install what serves it, or use another cluster.',
    })
  }

  async make(resource: ApiResource, namespace: string, body: Record<string, unknown>): Promise<string> {
    const name = `unbroken-vessel-${this.run.replace(LOOK, '').slice(0, 8)}-${++this.count}`
    // It is noted before it is made: an answer that is lost must not leave anything.
    this.made.push({ resource, namespace, name })
    await this.client.ask(resourcePath(resource, namespace), {
      method: 'POST',
      body: {
        apiVersion: apiVersionOf(resource),
        kind: resource.kind,
        metadata: { name, namespace, labels: { [LABEL]: this.run } },
        ...body,
      },
      signal: this.signal,
    })
    return name
  }

  /** Waits until an object is as wanted; `judge` gives null as long as it is not, and throws when it never will be. */
  async until<T>(
    resource: ApiResource,
    namespace: string,
    name: string,
    withinMs: number,
    what: string,
    judge: (object: KubeObject) => T | null,
  ): Promise<T> {
    let last: KubeObject | undefined
    for (const end = Date.now() + withinMs; Date.now() < end;) {
      this.signal.throwIfAborted()
      last = await this.client.ask<KubeObject>(resourcePath(resource, namespace, name), { signal: this.signal })
      const found = judge(last)
      if (found !== null) return found
      await new Promise((resolve) => setTimeout(resolve, LOOK_EVERY_MS))
    }
    throw new VesselError('not_in_time', {
      what: `${what} in ${namespace} of ${this.client.access.name} within ${Math.round(withinMs / 1000)} s.`,
      touched: 'What was made for it is removed.',
      next: `Look at its events: kubectl describe ${resource.plural} -n ${namespace}.`,
    })
  }

  /** Lets something stay, for the point that its run makes. */
  async keep(resource: ApiResource, namespace: string, name: string): Promise<void> {
    await this.client.ask(resourcePath(resource, namespace, name), {
      method: 'PATCH',
      contentType: 'application/merge-patch+json',
      body: { metadata: { labels: { [LABEL]: null, [KEPT]: this.run } } },
      signal: this.signal,
    })
    this.made.splice(
      this.made.findIndex((object) => object.resource === resource && object.namespace === namespace && object.name === name),
      1,
    )
  }

  remove(resource: ApiResource, namespace: string, name: string): Promise<void> {
    return removeFrom(this.client, resource, namespace, name)
  }

  /** Removes all that was made, the newest first; what can't be removed is told, for the record. */
  async removeAll(): Promise<string[]> {
    const leftovers: string[] = []
    for (const { resource, namespace, name } of this.made.reverse()) {
      await this.remove(resource, namespace, name).catch((error: Error) =>
        leftovers.push(`${resource.kind} ${namespace}/${name}: ${error.message}`),
      )
    }
    this.made.length = 0
    return leftovers
  }

  /** Removes all that was made, tells what could not be removed, and then whether nothing of it is left. */
  async close(closing: (nothing: boolean) => Promise<void>, tell: (leftover: string) => Promise<void>): Promise<void> {
    const still = await this.removeAll()
    for (const leftover of still) await tell(leftover)
    await closing(still.length === 0)
  }
}

/** Removes one thing at once; that it is not there is as good. */
async function removeFrom(client: ClusterClient, resource: ApiResource, namespace: string, name: string): Promise<void> {
  const query = { gracePeriodSeconds: 0, propagationPolicy: 'Background' }
  const signal = AbortSignal.timeout(LEFT_WITHIN_MS)
  await client.ask(resourcePath(resource, namespace, name), { method: 'DELETE', query, signal }).catch((error: unknown) => {
    if (!(error instanceof ApiFailure && error.status === 404)) throw error
  })
}

const ageOf = ({ creationTimestamp }: KubeObject['metadata']) => Date.now() - Date.parse(creationTimestamp ?? '')

const temporaryKinds = (resources: ApiResource[]): ApiResource[] =>
  [
    ['Pod', ''],
    ['PersistentVolumeClaim', ''],
    ['VolumeSnapshot', SNAPSHOT_GROUP],
  ].flatMap(([kind, group]) => resources.find((resource) => resource.kind === kind && resource.group === group) ?? [])

/**
 * Removes everything that one run has left anywhere in a cluster.
 *
 * @param kept whether what stays for a point goes, too
 */
export async function removeLeftOf(client: ClusterClient, run: string, kept: boolean): Promise<void> {
  for (const resource of temporaryKinds(await client.resources()))
    for (const label of kept ? [LABEL, KEPT] : [LABEL])
      for await (const { metadata } of client.list(resource, undefined, { labelSelector: `${label}=${run}` }))
        await removeFrom(client, resource, metadata.namespace!, metadata.name)
}

/**
 * Removes what runs that are over have left in a cluster, or in one namespace of it: a worker that was killed, one that
 * slept while its run was ended, or a request that the cluster took after nobody waited for it any more. What others
 * than this catalog have made there is theirs.
 *
 * @param isOver whether a run is known and at work no more
 */
export async function removeLeftOver(client: ClusterClient, isOver: (run: string) => Promise<boolean>, namespace?: string): Promise<void> {
  for (const resource of temporaryKinds(await client.resources()))
    for await (const { metadata } of client.list(resource, namespace, { labelSelector: LABEL })) {
      const maker = metadata.labels![LABEL]!
      const isLeft = maker.startsWith(LOOK) ? ageOf(metadata) > LOOKED_WITHIN_MS : await isOver(maker)
      if (isLeft) await removeFrom(client, resource, metadata.namespace!, metadata.name)
    }
}
