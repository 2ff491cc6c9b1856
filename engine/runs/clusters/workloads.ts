import type { ClusterObject } from '../../../core/cluster/clean'
import { podSpecs } from '../../../core/cluster/mapping'
import type { KubeObject } from '../../sources/kubernetes/client'

interface Claiming {
  persistentVolumeClaim?: { claimName: string }
}

/** Whether a workload uses a claim, by its pods or by the templates that its claims are made from. */
export function usesClaim(object: ClusterObject, claim: string): boolean {
  const mounted = podSpecs(object).some((spec) =>
    ((spec.volumes ?? []) as Claiming[]).some((one) => one.persistentVolumeClaim?.claimName === claim),
  )
  if (mounted || object.kind !== 'StatefulSet') return mounted
  const templates = (object.spec?.volumeClaimTemplates ?? []) as { metadata: { name: string } }[]
  return templates.some(({ metadata }) => {
    const start = `${metadata.name}-${object.metadata.name}-`
    return claim.startsWith(start) && /^\d+$/.test(claim.slice(start.length))
  })
}

/** Whether everything that a workload asks for runs and is ready. */
export function isReady({ kind, metadata, spec, status }: KubeObject): boolean {
  const told = (status ?? {}) as Record<string, unknown> & { conditions?: { type: string; status: string }[] }
  if (kind === 'Pod') return told.conditions?.some((one) => one.type === 'Ready' && one.status === 'True') ?? false
  if (kind === 'DaemonSet') return Number(told.numberReady ?? 0) === Number(told.desiredNumberScheduled ?? -1)
  if (kind !== 'Deployment' && kind !== 'StatefulSet' && kind !== 'ReplicaSet') return true
  const wanted = Number(spec?.replicas ?? 1)
  const seen = Number(told.observedGeneration ?? metadata.generation ?? 0) >= Number(metadata.generation ?? 0)
  return seen && Number(told.readyReplicas ?? 0) === wanted && Number(told.replicas ?? 0) === wanted
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
    conditions?: { status: string; message?: string }[]
  }
  const message = conditions.find((one) => one.status !== 'True' && one.message)?.message
  return `${readyReplicas} of ${replicas} ready${message ? `: ${message}` : ''}`
}
