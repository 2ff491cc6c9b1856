import type { ClusterAccess } from './kubernetes/access'
import { ClusterClient } from './kubernetes/client'
import { captureCluster } from './kubernetes/capture'
import { discover as discoverCluster } from './kubernetes/discover'
import { clusterHolder } from './kubernetes/hold'
import { probe as probeCluster } from './kubernetes/probe'
import { watch as watchCluster } from './kubernetes/watch'
import type { PostgresAccess } from './postgres/connect'
import { captureServer } from './postgres/capture-server'
import { discover } from './postgres/discover'
import { postgresHolder } from './postgres/hold'
import { probe } from './postgres/probe'
import { watch } from './postgres/watch'
import type { SourceAdapter } from './source'

/** How to reach a source of each kind. */
export type SourceAccess = ({ kind: 'postgres' } & PostgresAccess) | ({ kind: 'kubernetes' } & ClusterAccess)
export type SourceKind = SourceAccess['kind']

/** Kinds of sources that can tell of changes (`watch`). */
export const WATCHED: SourceKind[] = ['kubernetes', 'postgres']

/** The adapter of a source, by its kind. */
export function adapterOf(access: SourceAccess): SourceAdapter {
  if (access.kind === 'postgres')
    return {
      probe: (now) => probe(access, now),
      discover: () => discover(access),
      holder: postgresHolder(access),
      watch: (changed, signal) => watch(access, changed, signal),
      capture: (job) => captureServer(access, job),
    }
  return clusterAdapter(access)
}

function clusterAdapter(access: ClusterAccess): SourceAdapter {
  return {
    probe: (now) => ClusterClient.with(access, (client) => probeCluster(client, now)),
    discover: async function* () {
      const client = new ClusterClient(access)
      try {
        yield* discoverCluster(client)
      } catch (error) {
        throw client.translate(error)
      } finally {
        client.close()
      }
    },
    holder: clusterHolder(access),
    watch: (changed, signal) => ClusterClient.with(access, (client) => watchCluster(client, changed, signal)),
    capture: (job) => ClusterClient.with(access, (client) => captureCluster(client, job)),
  }
}
