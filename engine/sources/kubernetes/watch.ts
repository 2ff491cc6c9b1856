import { setMaxListeners } from 'node:events'
import { Watch } from '@kubernetes/client-node'
import { resourcePath, type ApiResource, type ClusterClient } from './client'
import { thingKinds } from './kinds'

/** Pods come and go all the time, and what is to be protected of them is what makes them. */
const NOISY = new Set(['Pod', 'ReplicaSet', 'Job'])

/**
 * Tells when something in a cluster comes, changes or goes. Ends when the cluster does not answer any more, or when it
 * is told to; then whoever wants to know looks for himself and watches again.
 */
export async function watch(client: ClusterClient, changed: () => void, signal: AbortSignal): Promise<void> {
  const resources = await client.resources()
  const namespaces = resources.filter(({ group, plural }) => group === '' && plural === 'namespaces')
  const kinds = [...namespaces, ...thingKinds(resources)].filter(({ kind, verbs }) => verbs.includes('watch') && !NOISY.has(kind))
  const stop = new AbortController()
  const all = AbortSignal.any([signal, stop.signal])
  setMaxListeners(0, all)
  // A kind that is new to the cluster ends all of them, so that it is watched too.
  const tell = (kind: string) => {
    changed()
    if (kind === 'CustomResourceDefinition') setTimeout(() => stop.abort(), 1000).unref()
  }
  const from = await Promise.all(kinds.map((resource) => versionOf(client, resource, all)))
  // What happened before is not told.
  changed()
  await Promise.race(kinds.map((resource, i) => watchOne(client, resource, from[i]!, () => tell(resource.kind), all)))
  stop.abort()
}

async function versionOf(client: ClusterClient, resource: ApiResource, signal: AbortSignal): Promise<string> {
  const { metadata } = await client.ask<{ metadata: { resourceVersion: string } }>(resourcePath(resource), { query: { limit: 1 }, signal })
  return metadata.resourceVersion
}

async function watchOne(
  client: ClusterClient,
  resource: ApiResource,
  from: string,
  changed: () => void,
  signal: AbortSignal,
): Promise<void> {
  await new Promise<void>((resolve, reject) => {
    const watching = new Watch(client.config).watch(
      resourcePath(resource),
      { resourceVersion: from },
      (what) => what !== 'BOOKMARK' && changed(),
      () => resolve(),
    )
    const end = () => {
      void watching.then(
        (request) => request.abort(),
        () => undefined,
      )
      resolve()
    }
    watching.catch(reject)
    signal.addEventListener('abort', end, { once: true })
    if (signal.aborted) end()
  })
}
