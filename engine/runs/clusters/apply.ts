import type { ClusterObject } from '../../../core/cluster/clean'
import { atRest } from '../../../core/cluster/phases'
import type { PlannedObject } from '../../../core/cluster/operations'
import { groupOf, versionOf } from '../../../core/cluster/versions'
import { VesselError } from '../../../core/errors'
import { isReady, whyNotReady } from '../../sources/kubernetes/ready'
import { usesClaim } from './workloads'
import { ApiFailure, PODS, resourcePath, type ApiResource, type ClusterClient, type KubeObject } from '../../sources/kubernetes/client'

const GONE_WITHIN_MS = 60_000
const LOOK_EVERY_MS = 150

/** Puts objects into a cluster, one by one. */
export class Applier {
  private resources: ApiResource[] = []

  constructor(
    private readonly client: ClusterClient,
    private readonly signal: AbortSignal,
  ) {}

  /** Asks again what is served: definitions may have come. */
  async learn(): Promise<void> {
    this.resources = await this.client.resources()
  }

  async pathOf(object: ClusterObject, name?: string): Promise<string> {
    const [group, version] = [groupOf(object.apiVersion), versionOf(object.apiVersion)]
    const find = () => this.resources.find((resource) => resource.group === group && resource.kind === object.kind)
    if (!find()) await this.learn()
    const found = find()
    if (found) return resourcePath({ ...found, version }, found.namespaced ? object.metadata.namespace : undefined, name)
    throw new VesselError('kind_missing', {
      what: `${this.client.access.name} serves no ${object.kind} of ${object.apiVersion}.`,
      touched: 'It was not made.',
      next: 'Install what defines it, or leave it out.',
    })
  }

  /** An object as the cluster has it now; null when there is none. */
  async get(object: ClusterObject): Promise<KubeObject | null> {
    const path = await this.pathOf(object, object.metadata.name)
    return this.client.ask<KubeObject>(path, { signal: this.signal }).catch((error: unknown) => {
      if (error instanceof ApiFailure && error.status === 404) return null
      throw error
    })
  }

  /** Does what the plan says with one object; workloads come with nothing running yet. */
  async apply({ operation, object }: PlannedObject): Promise<void> {
    const sent = atRest(object)?.resting ?? object
    const path = await this.pathOf(sent, sent.metadata.name)
    if (operation.verb === 'merge') {
      const body = { ...sent, metadata: { labels: sent.metadata.labels, annotations: sent.metadata.annotations } }
      await this.client.ask(path, { method: 'PATCH', contentType: 'application/merge-patch+json', body, signal: this.signal })
      return
    }
    const now = operation.verb === 'replace' ? await this.get(sent) : null
    if (now && operation.anew.length > 0) await this.remove(sent)
    if (now && operation.anew.length === 0) await this.client.ask(path, { method: 'PUT', body: standingIn(sent, now), signal: this.signal })
    else await this.client.ask(await this.pathOf(sent), { method: 'POST', body: sent, signal: this.signal })
  }

  /** Asks the cluster whether it would take an object, without making it. */
  async wouldTake({ operation, object }: PlannedObject): Promise<void> {
    const query = { dryRun: 'All' }
    if (operation.verb === 'create')
      await this.client.ask(await this.pathOf(object), { method: 'POST', body: object, query, signal: this.signal })
    else if (operation.anew.length === 0) {
      const now = await this.get(object)
      const path = await this.pathOf(object, object.metadata.name)
      if (now) await this.client.ask(path, { method: 'PUT', body: standingIn(object, now), query, signal: this.signal })
    }
  }

  async remove(object: ClusterObject): Promise<void> {
    const path = await this.pathOf(object, object.metadata.name)
    await this.client.ask(path, { method: 'DELETE', query: { propagationPolicy: 'Background' }, signal: this.signal })
    await this.until(
      GONE_WITHIN_MS,
      () => `${object.kind} ${object.metadata.name} is not gone`,
      async () => (await this.get(object)) === null,
    )
  }

  patch(path: string, body: object): Promise<KubeObject> {
    return this.client.ask<KubeObject>(path, { method: 'PATCH', contentType: 'application/merge-patch+json', body, signal: this.signal })
  }

  /** Whether a pod has one of the claims mounted, or is about to. */
  async isUsed(namespace: string, claims: string[]): Promise<boolean> {
    const { items } = await this.client.ask<{ items: KubeObject[] }>(resourcePath(PODS, namespace), { signal: this.signal })
    return items.some(
      ({ spec, status }) =>
        !['Succeeded', 'Failed'].includes(String(status?.phase)) &&
        claims.some((claim) => usesClaim({ kind: 'Pod', metadata: { name: '' }, spec }, claim)),
    )
  }

  /** @throws VesselError not_in_time, with what is not ready */
  async untilReady(object: ClusterObject, withinMs: number): Promise<void> {
    let why = ''
    const label = `${object.kind} ${object.metadata.name}`
    await this.until(
      withinMs,
      () => `${label} is not ready (${why})`,
      async () => {
        const now = await this.get(object)
        why = now ? whyNotReady(now) : 'it is gone'
        return now !== null && isReady(now)
      },
    )
  }

  async until(withinMs: number, what: () => string, isSo: () => Promise<boolean>): Promise<void> {
    for (const end = Date.now() + withinMs; Date.now() < end;) {
      this.signal.throwIfAborted()
      if (await isSo()) return
      await new Promise((resolve) => setTimeout(resolve, LOOK_EVERY_MS))
    }
    throw new VesselError('not_in_time', {
      what: `${what()} after ${Math.round(withinMs / 1000)} s.`,
      touched: 'Everything else of the plan was done as the receipt says.',
      next: 'Look at its events in the cluster.',
    })
  }
}

/** An object that takes the place of one that stands: what the cluster gave that one stays with it. */
function standingIn(object: ClusterObject, now: KubeObject): ClusterObject {
  const { resourceVersion, uid } = now.metadata
  const kept: Record<string, string[]> = { Service: ['clusterIP', 'clusterIPs'], PersistentVolumeClaim: ['volumeName'] }
  const fields = (kept[object.kind ?? ''] ?? []).filter((field) => now.spec?.[field] !== undefined)
  return {
    ...object,
    metadata: { ...object.metadata, resourceVersion, uid },
    ...(fields.length > 0 ? { spec: { ...Object.fromEntries(fields.map((field) => [field, now.spec![field]])), ...object.spec } } : {}),
  }
}
