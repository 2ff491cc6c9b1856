import { objectPath, pathOf, volumePath, CLUSTER_WIDE, type Thing } from '../../../core/things/thing'
import { ApiFailure, type ApiResource, type ClusterClient, type KubeObject } from './client'
import { isMadeByCluster, thingKinds } from './kinds'
import { isOurs } from './temporary'
import { templateLabels } from '../../../core/cluster/pods'
import { chooses, referencesOf } from '../../../core/cluster/references'
import { bytesOf, snapshotDrivers } from './storage'

export interface Found {
  resource: ApiResource
  object: KubeObject
  path: string
}

/** A cluster as it is at a moment: its namespaces and the objects that were put into it. */
export interface Survey {
  version: string
  resources: ApiResource[]
  namespaces: KubeObject[]
  found: Found[]
  /** Kinds that can't be listed, as roles name them. */
  closed: string[]
  /** Storage drivers that take snapshots. */
  drivers: Set<string>
}

export async function survey(client: ClusterClient): Promise<Survey> {
  const { name } = client.access
  const { gitVersion } = await client.ask<{ gitVersion: string }>('/version')
  const resources = await client.resources()
  const spaces = resources.find(({ group, plural }) => group === '' && plural === 'namespaces')
  const namespaces: KubeObject[] = []
  if (spaces) for await (const space of client.list(spaces)) namespaces.push(space)
  const found: Found[] = []
  const closed: string[] = []
  for (const resource of thingKinds(resources)) {
    try {
      for await (const object of client.list(resource)) {
        if (isMadeByCluster(object) || isOurs(object)) continue
        const { namespace, name: objectName } = object.metadata
        found.push({ resource, object, path: objectPath(name, namespace, resource.group, resource.kind, objectName) })
      }
    } catch (error) {
      if (!(error instanceof ApiFailure) || error.status !== 403) throw error
      closed.push(resource.group ? `${resource.plural}.${resource.group}` : resource.plural)
    }
  }
  return { version: gitVersion, resources, namespaces, found, closed, drivers: await snapshotDrivers(client, resources) }
}

/** Everything that the cluster holds: namespaces, what was put into them, their volumes, and what they need of the cluster. */
export async function* discover(client: ClusterClient): AsyncGenerator<Thing> {
  yield* thingsOf(client.access.name, await survey(client))
}

export function* thingsOf(name: string, { version, namespaces, found, closed, drivers }: Survey): Generator<Thing> {
  const trouble = closed.length > 0 ? `These can’t be listed, so nothing is known of them: ${closed.join(', ')}.` : undefined
  yield { path: pathOf(name), kind: 'cluster', labels: {}, facts: { version, trouble } }
  yield { path: pathOf(name, CLUSTER_WIDE), kind: 'namespace', labels: {}, facts: { comment: 'What belongs to no namespace.' } }
  for (const { metadata, status } of namespaces) {
    const ending = status?.phase === 'Terminating' ? { trouble: 'It is being removed.' } : {}
    yield { path: pathOf(name, metadata.name), kind: 'namespace', labels: metadata.labels ?? {}, facts: ending }
  }
  yield* things(name, found, drivers)
}

function* things(source: string, found: Found[], drivers: Set<string>): Generator<Thing> {
  const byPath = new Map(found.map((thing) => [thing.path, thing]))
  const drivesOf = new Map(
    found.filter(({ object }) => object.kind === 'StorageClass').map(({ object }) => [object.metadata.name, String(object.provisioner)]),
  )
  const definitions = new Map(
    found
      .filter(({ object }) => object.kind === 'CustomResourceDefinition')
      .map(({ object, path }) => {
        const { group, names } = object.spec as { group: string; names: { kind: string } }
        return [`${group}/${names.kind}`, path]
      }),
  )
  const pathsUsed = ({ object, resource }: Found): string[] => {
    const used = referencesOf(object).flatMap(({ group, kind, name, wide }) => {
      if (kind === 'CustomResourceDefinition') return definitions.get(name) ?? []
      const path = objectPath(source, wide ? undefined : object.metadata.namespace, group, kind, name)
      return byPath.has(path) ? [path] : []
    })
    if (resource.kind !== 'Service') return used
    const selector = object.spec?.selector as Record<string, string> | undefined
    const chosen = found.filter(
      (other) => other.object.metadata.namespace === object.metadata.namespace && chooses(selector, templateLabels(other.object)),
    )
    return [...used, ...chosen.map(({ path }) => path)]
  }
  for (const thing of found) {
    const { object, path } = thing
    const uses = pathsUsed(thing)
    const facts = { kind: object.kind, apiVersion: object.apiVersion, ...(uses.length > 0 ? { uses } : {}) }
    const ending = object.metadata.deletionTimestamp ? { trouble: 'It is being removed.' } : {}
    yield { path, kind: 'object', labels: object.metadata.labels ?? {}, facts: { ...facts, ...ending } }
    if (object.kind === 'PersistentVolumeClaim') yield volumeOf(source, object, drivesOf, drivers)
  }
}

function volumeOf(source: string, { metadata, spec, status }: KubeObject, drivesOf: Map<string, string>, drivers: Set<string>): Thing {
  const storageClass = String(spec?.storageClassName ?? '')
  const block = spec?.volumeMode === 'Block'
  const trouble = block
    ? 'It is a block device; only volumes with a file system can be read.'
    : status?.phase === 'Bound'
      ? undefined
      : 'It is not bound, so there is nothing to read yet.'
  return {
    path: volumePath(source, metadata.namespace!, metadata.name),
    kind: 'volume',
    labels: metadata.labels ?? {},
    facts: {
      bytes: bytesOf((status?.capacity as { storage?: string } | undefined)?.storage),
      storageClass,
      snapshots: drivers.has(drivesOf.get(storageClass) ?? ''),
      ...(trouble ? { trouble } : {}),
    },
  }
}
