import type { ApiResource, KubeObject } from './client'

/** Kinds that a cluster makes by itself from others, or that only tell what happens. */
const DERIVED = new Set([
  'Event',
  'Endpoints',
  'EndpointSlice',
  'Lease',
  'ControllerRevision',
  'PodMetrics',
  'NodeMetrics',
  'VolumeSnapshot',
  'VolumeSnapshotContent',
])

/** Cluster-wide kinds that say how things in namespaces are to be made; the others describe the cluster itself. */
const WIDE = new Set([
  'StorageClass',
  'CustomResourceDefinition',
  'ClusterRole',
  'ClusterRoleBinding',
  'IngressClass',
  'PriorityClass',
  'VolumeSnapshotClass',
])

/** The kinds of which a cluster's things are. */
export const thingKinds = (resources: ApiResource[]): ApiResource[] =>
  resources.filter(
    ({ kind, namespaced, verbs, plural }) =>
      verbs.includes('list') && !DERIVED.has(kind) && (namespaced || WIDE.has(kind)) && plural !== 'namespaces',
  )

/** What stands in every namespace, or belongs to something that makes it again. */
export function isMadeByCluster({ kind, metadata, type }: KubeObject): boolean {
  if (metadata.ownerReferences?.some(({ controller }) => controller)) return true
  if (kind === 'ServiceAccount') return metadata.name === 'default'
  if (kind === 'ConfigMap') return metadata.name === 'kube-root-ca.crt'
  if (kind === 'Secret') return type === 'kubernetes.io/service-account-token'
  // Roles that come with every cluster have a label that says so.
  return metadata.labels?.['kubernetes.io/bootstrapping'] !== undefined || metadata.name.startsWith('system:')
}
