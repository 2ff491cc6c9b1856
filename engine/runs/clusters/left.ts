import { clusterAccessOf } from '../../catalog/sources'
import type { EngineContext } from '../../context'
import { ClusterClient } from '../../sources/kubernetes/client'
import { removeLeftOf } from '../../sources/kubernetes/temporary'

/** What the run had made in clusters for reading and filling goes; a cluster that does not answer is seen to by its next backup. */
export async function removeFromClusters(engine: EngineContext, runId: string): Promise<void> {
  const clusters = await engine.db.selectFrom('source').select('name').where('kind', '=', 'kubernetes').execute()
  for (const { name } of clusters)
    await clusterAccessOf(engine, name)
      .then((access) => ClusterClient.with(access, (client) => removeLeftOf(client, runId)))
      .catch((error: Error) => console.warn(`cluster ${name}: what a run left could not be removed (${error.message})`))
}
