import type { ClusterObject } from './clean'

/** The order in which things come back, so that each finds what it needs, in words. Volumes are filled before the start. */
export const PHASE_TITLES = {
  definitions: 'Definitions',
  storage: 'Claims of volumes',
  configuration: 'Configuration and secrets',
  accounts: 'Accounts and roles',
  workloads: 'Workloads, at rest',
  others: 'Everything else',
  start: 'Started when their volumes are filled',
} as const
export type Phase = keyof typeof PHASE_TITLES
export const PHASES = Object.keys(PHASE_TITLES) as Phase[]

const OF_KIND: Record<string, Phase> = {
  CustomResourceDefinition: 'definitions',
  StorageClass: 'storage',
  PersistentVolumeClaim: 'storage',
  VolumeSnapshotClass: 'storage',
  PriorityClass: 'configuration',
  IngressClass: 'configuration',
  ResourceQuota: 'configuration',
  LimitRange: 'configuration',
  ConfigMap: 'configuration',
  Secret: 'configuration',
  ServiceAccount: 'accounts',
  Role: 'accounts',
  RoleBinding: 'accounts',
  ClusterRole: 'accounts',
  ClusterRoleBinding: 'accounts',
  Deployment: 'workloads',
  StatefulSet: 'workloads',
  CronJob: 'workloads',
  ReplicaSet: 'workloads',
  // These can't stand still, so they come when their volumes are filled.
  DaemonSet: 'start',
  Job: 'start',
  Pod: 'start',
}

export const phaseOf = (kind: string): Phase => OF_KIND[kind] ?? 'others'

/** How a workload is made so that nothing runs yet, and what sets it going afterwards; null for what always runs. */
export function atRest(object: ClusterObject): { resting: ClusterObject; start: Record<string, unknown> } | null {
  const spec = (object.spec ?? {}) as { replicas?: number; suspend?: boolean }
  if (object.kind === 'Deployment' || object.kind === 'StatefulSet' || object.kind === 'ReplicaSet')
    return { resting: { ...object, spec: { ...spec, replicas: 0 } }, start: { replicas: spec.replicas ?? 1 } }
  if (object.kind === 'CronJob')
    return { resting: { ...object, spec: { ...spec, suspend: true } }, start: { suspend: spec.suspend ?? false } }
  return null
}
