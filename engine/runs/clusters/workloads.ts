import type { ClusterObject } from '../../../core/cluster/clean'
import { claimParts, claimTemplates, list, podSpec } from '../../../core/cluster/pods'

/** Whether a workload uses a claim, by its pods or by the templates that its claims are made from. */
export function usesClaim(object: ClusterObject, claim: string): boolean {
  if (list(podSpec(object)?.volumes).some((volume) => volume.persistentVolumeClaim?.claimName === claim)) return true
  return claimParts(claim, object.metadata.name, claimTemplates(object)) !== null
}
