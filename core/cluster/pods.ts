import type { ClusterObject } from './clean'

// What runs in an object of a cluster, whatever its kind.

// eslint-disable-next-line @typescript-eslint/no-explicit-any
export type Fields = Record<string, any> // Specs have any shape; what is not as expected is not there.

/** Whether something is an object of JSON, and no list. */
export const isFields = (value: unknown): value is Fields => typeof value === 'object' && value !== null && !Array.isArray(value)

export const list = (value: unknown): Fields[] => (Array.isArray(value) ? (value as Fields[]) : [])

/** How the pods are made that an object is, or makes. */
export function podSpec(object: ClusterObject): Fields | undefined {
  const spec = object.spec as Fields | undefined
  if (object.kind === 'Pod') return spec
  return object.kind === 'CronJob' ? spec?.jobTemplate?.spec?.template?.spec : spec?.template?.spec
}

export const containersOf = (object: ClusterObject): Fields[] => {
  const spec = podSpec(object)
  return [...list(spec?.containers), ...list(spec?.initContainers)]
}

/** Labels that the pods of a workload bear. */
export const templateLabels = ({ spec }: Pick<ClusterObject, 'spec'>): Record<string, string> =>
  (spec?.template as { metadata?: { labels?: Record<string, string> } } | undefined)?.metadata?.labels ?? {}

/** Names of the templates that a stateful set makes claims from. */
export const claimTemplates = (object: ClusterObject): string[] =>
  object.kind === 'StatefulSet' ? list(object.spec?.volumeClaimTemplates).map(({ metadata }) => String(metadata.name)) : []

/** `data` and `0` of the claim `data-manifest-0` of the workload `manifest`; null when none of its templates made it. */
export function claimParts(claim: string, workload: string, templates: string[]): { template: string; ordinal: string } | null {
  for (const template of templates) {
    const start = `${template}-${workload}-`
    const ordinal = claim.slice(start.length)
    if (claim.startsWith(start) && /^\d+$/.test(ordinal)) return { template, ordinal }
  }
  return null
}
