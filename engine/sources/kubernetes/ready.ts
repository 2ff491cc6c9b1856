import type { KubeObject } from './client'

interface Condition {
  type: string
  status: string
  message?: string
}

export const isPodReady = ({ status }: Pick<KubeObject, 'status'>): boolean =>
  ((status?.conditions ?? []) as Condition[]).some((condition) => condition.type === 'Ready' && condition.status === 'True')

/** Whether everything that a workload asks for runs and is ready. */
export function isReady({ kind, metadata, spec, status }: KubeObject): boolean {
  const fields = status ?? {}
  if (kind === 'Pod') return isPodReady({ status })
  if (kind === 'DaemonSet') return Number(fields.numberReady ?? 0) === Number(fields.desiredNumberScheduled ?? -1)
  if (kind !== 'Deployment' && kind !== 'StatefulSet' && kind !== 'ReplicaSet') return true
  const wanted = Number(spec?.replicas ?? 1)
  const seen = Number(fields.observedGeneration ?? metadata.generation ?? 0) >= Number(metadata.generation ?? 0)
  return seen && Number(fields.readyReplicas ?? 0) === wanted && Number(fields.replicas ?? 0) === wanted
}

/** Why something is not ready, in the words of its own conditions. */
export function whyNotReady({ status }: KubeObject): string {
  const {
    readyReplicas = 0,
    replicas = 0,
    conditions = [],
  } = (status ?? {}) as {
    readyReplicas?: number
    replicas?: number
    conditions?: Condition[]
  }
  const message = conditions.find((condition) => condition.status !== 'True' && condition.message)?.message
  return `${readyReplicas} of ${replicas} ready${message ? `: ${message}` : ''}`
}
