import type { ClusterObject } from './clean'

/** What stands at the cluster that things go to, as far as a plan needs it. */
export interface ClusterState {
  source: string
  /** Every kind that is served, in each of its versions. */
  served: { group: string; version: string; kind: string; plural: string; namespaced: boolean }[]
  /** Every object, by `group kind namespace name`; cleaned of what the cluster writes. */
  objects: Map<string, ClusterObject>
  /** Namespaces with their phase. */
  namespaces: Map<string, { phase: string; labels: Record<string, string> }>
  classes: string[]
  defaultClass: string | null
  quotas: Quota[]
}

export interface Quota {
  namespace: string
  name: string
  hard: Record<string, string>
  used: Record<string, string>
}

export const objectKey = (group: string, kind: string, namespace: string | null, name: string) =>
  `${group} ${kind} ${namespace ?? ''} ${name}`

const UNITS: Record<string, number> = {
  m: 1e-3,
  '': 1,
  k: 1e3,
  M: 1e6,
  G: 1e9,
  T: 1e12,
  P: 1e15,
  Ki: 2 ** 10,
  Mi: 2 ** 20,
  Gi: 2 ** 30,
  Ti: 2 ** 40,
  Pi: 2 ** 50,
}

/** A quantity of the API (`500m`, `2Gi`, `3`) as a number; null when it is none. */
export function quantity(text: string | undefined): number | null {
  const match = /^(-?\d+(?:\.\d+)?)(m|k|[KMGTP]i?|)$/.exec(text ?? '')
  const unit = match && UNITS[match[2]!]
  return match && unit !== undefined && unit !== null ? Number(match[1]) * unit : null
}
