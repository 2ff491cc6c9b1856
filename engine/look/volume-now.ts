import type { FileEntry } from '../../core/content/manifest'
import { VesselError } from '../../core/errors'
import { namesOf } from '../../core/things/thing'
import { clusterAccessOf } from '../catalog/sources'
import type { EngineContext } from '../context'
import type { Sorting } from '../pool/sorting'
import { ApiFailure, ClusterClient, resourcePath, type KubeObject } from '../sources/kubernetes/client'
import { lookAtVolume } from '../sources/kubernetes/fill'
import { newLook, Temporary } from '../sources/kubernetes/temporary'
import { readerPod } from '../sources/kubernetes/volumes'

const WITHIN_MS = 120_000

/**
 * What a volume holds at its source now, for the caller to let go of; null when it is not there. Only what may have
 * changed since then is read.
 * @throws VesselError volume_look when it takes too long, and those of the cluster
 */
export async function volumeNow(
  engine: EngineContext,
  path: string,
  before: () => AsyncIterable<FileEntry>,
): Promise<Sorting<FileEntry> | null> {
  const [source, namespace, , name] = namesOf(path) as [string, string, string, string]
  const client = new ClusterClient(await clusterAccessOf(engine, source))
  const signal = AbortSignal.timeout(WITHIN_MS)
  try {
    const temporary = new Temporary(client, await client.resources(), newLook(), signal)
    const claims = temporary.resource('PersistentVolumeClaim')
    const claim = await client.ask<KubeObject>(resourcePath(claims, namespace, name), { signal }).catch((error: unknown) => {
      if (error instanceof ApiFailure && error.status === 404) return null
      throw error
    })
    if (claim === null) return null
    try {
      const target = await readerPod(client, temporary, { path, claim }, name)
      return (await lookAtVolume(client, target, path, signal, before)).entries
    } finally {
      await temporary.removeAll()
    }
  } catch (error) {
    if (signal.aborted) throw tooLong(path)
    throw client.translate(error)
  } finally {
    client.close()
  }
}

const tooLong = (path: string) =>
  new VesselError('volume_look', {
    what: `Looking at ${path} took longer than ${WITHIN_MS / 60_000} minutes, because much of it is new or changed.`,
    touched: 'Nothing was changed.',
    next: 'Back it up, and look at it beside that point.',
  })
