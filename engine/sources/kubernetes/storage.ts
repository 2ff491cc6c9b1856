import type { ApiResource, ClusterClient } from './client'

export const SNAPSHOT_GROUP = 'snapshot.storage.k8s.io'
const UNITS: Record<string, number> = {
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

/** A quantity of the API, such as `10Gi`, in bytes; 0 for what is none. */
export function bytesOf(quantity: string | undefined): number {
  const match = /^([0-9.]+)(Ki|Mi|Gi|Ti|Pi|k|M|G|T|P)?$/.exec(quantity ?? '')
  return match ? Math.round(Number(match[1]) * UNITS[match[2] ?? '']!) : 0
}

/** The storage drivers that take snapshots, each with a class of them. Empty where the cluster has none. */
export async function snapshotDrivers(client: ClusterClient, resources: ApiResource[]): Promise<Set<string>> {
  const drivers = new Set<string>()
  const classes = resources.find(({ group, plural }) => group === SNAPSHOT_GROUP && plural === 'volumesnapshotclasses')
  if (classes) for await (const { driver } of client.list(classes)) drivers.add(String(driver))
  return drivers
}
