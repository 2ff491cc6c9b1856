import { cleaned } from '../../../core/cluster/clean'
import { objectKey, type ClusterState, type Quota } from '../../../core/cluster/target'
import type { ClusterClient, KubeObject } from './client'
import { survey } from './discover'

const DEFAULT_CLASS = 'storageclass.kubernetes.io/is-default-class'

/** What stands at a cluster, for planning what comes back into it. */
export async function inspectCluster(client: ClusterClient): Promise<ClusterState> {
  const [{ namespaces, found }, served] = await Promise.all([survey(client), servedKinds(client)])
  const classes = found.filter(({ object }) => object.kind === 'StorageClass').map(({ object }) => object)
  return {
    source: client.access.name,
    served,
    objects: new Map(
      found.map(({ resource, object }) => [
        objectKey(resource.group, resource.kind, object.metadata.namespace ?? null, object.metadata.name),
        cleaned(object),
      ]),
    ),
    namespaces: new Map(
      namespaces.map(({ metadata, status }) => [
        metadata.name,
        { phase: metadata.deletionTimestamp ? 'Terminating' : String(status?.phase ?? 'Active'), labels: metadata.labels ?? {} },
      ]),
    ),
    classes: classes.map(({ metadata }) => metadata.name).sort(),
    defaultClass: classes.find(({ metadata }) => metadata.annotations?.[DEFAULT_CLASS] === 'true')?.metadata.name ?? null,
    quotas: found.filter(({ object }) => object.kind === 'ResourceQuota').map(({ object }) => quotaOf(object)),
  }
}

function quotaOf({ metadata, spec, status }: KubeObject): Quota {
  const { hard = {}, used = {} } = (status ?? {}) as { hard?: Record<string, string>; used?: Record<string, string> }
  const wanted = (spec?.hard ?? {}) as Record<string, string>
  return { namespace: metadata.namespace!, name: metadata.name, hard: { ...wanted, ...hard }, used }
}

/** Every kind in every version that is served, not only the preferred ones. */
async function servedKinds(client: ClusterClient): Promise<ClusterState['served']> {
  const groups = await client.ask<{ groups: { name: string; versions: { version: string }[] }[] }>('/apis')
  const all = [
    { group: '', version: 'v1' },
    ...groups.groups.flatMap(({ name, versions }) => versions.map(({ version }) => ({ group: name, version }))),
  ]
  return (await Promise.all(all.map((type) => client.resourcesOf(type)))).flat()
}
