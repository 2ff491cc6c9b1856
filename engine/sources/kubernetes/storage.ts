import { quantity } from '../../../core/cluster/target'
import type { ApiResource, ClusterClient } from './client'

export const SNAPSHOT_GROUP = 'snapshot.storage.k8s.io'
/** A quantity of the API, such as `10Gi`, in bytes; 0 for what is none. */
export const bytesOf = (text: string | undefined): number => Math.round(quantity(text) ?? 0)

/** The storage drivers that take snapshots, each with a class of them. Empty where the cluster has none. */
export async function snapshotDrivers(client: ClusterClient, resources: ApiResource[]): Promise<Set<string>> {
  const drivers = new Set<string>()
  const classes = resources.find(({ group, plural }) => group === SNAPSHOT_GROUP && plural === 'volumesnapshotclasses')
  if (classes) for await (const { driver } of client.list(classes)) drivers.add(String(driver))
  return drivers
}
