import { VesselError } from '../../../core/errors'
import { volumePath } from '../../../core/things/thing'
import { resourcePath, type ClusterClient, type KubeObject } from './client'
import type { ExecTarget } from './exec'
import { MOUNT } from './listing'
import { SNAPSHOT_GROUP } from './storage'
import { isOurs, type Temporary } from './temporary'

const READY_WITHIN_MS = 120_000
const SNAPSHOT_WITHIN_MS = 60_000
const CONTAINER = 'reader'
/** Any image does that has GNU tar and find, and b2sum; a cluster that can't pull this one is told another. */
const READER_IMAGE = 'debian:12-slim'

/** A volume that is to be read, with what is known of it. */
export interface WantedVolume {
  path: string
  claim: KubeObject
  snapshots: boolean
}

export interface VolumeSnapshot {
  name: string
  /** When it was taken, as the storage tells. */
  at: string
}

/**
 * Asks for a snapshot of a volume and waits until it is cut; it may take longer until it can be read.
 * @param remainingMs milliseconds that something is still held for it; null when nothing is
 */
export async function takeSnapshot(
  temporary: Temporary,
  { claim, path }: WantedVolume,
  remainingMs: number | null,
): Promise<VolumeSnapshot> {
  const { namespace, name } = claim.metadata
  const kind = temporary.resource('VolumeSnapshot', SNAPSHOT_GROUP)
  const snapshot = await temporary.make(kind, namespace!, { spec: { source: { persistentVolumeClaimName: name } } })
  const at = await temporary.until(
    kind,
    namespace!,
    snapshot,
    Math.min(SNAPSHOT_WITHIN_MS, remainingMs ?? SNAPSHOT_WITHIN_MS),
    `The snapshot of ${path} did not become ready`,
    ({ status }) => readyOf(path, status)?.at ?? null,
  )
  return { name: snapshot, at }
}

/** Since when a snapshot is what it is, and whether it can be read; null as long as neither is so. */
function readyOf(path: string, status: KubeObject['status']): { at: string; ready: boolean } | null {
  const state = (status ?? {}) as { readyToUse?: boolean; creationTime?: string; error?: { message?: string } }
  if (state.error?.message) throw refused(`The snapshot of ${path} failed: ${state.error.message}.`)
  const at = state.creationTime ?? (state.readyToUse ? new Date().toISOString() : null)
  return at === null ? null : { at, ready: state.readyToUse === true }
}

const refused = (what: string, next = 'Look at the storage driver of its class, then run it again.') =>
  new VesselError('volume_unready', { what, touched: 'What was made for reading it is removed.', next })

/** A volume like the one that was snapshotted, with what it held then. */
export async function claimOfSnapshot(temporary: Temporary, { claim, path }: WantedVolume, snapshot: VolumeSnapshot): Promise<string> {
  const kind = temporary.resource('VolumeSnapshot', SNAPSHOT_GROUP)
  const late = `The snapshot of ${path} was cut and did not become ready`
  await temporary.until(kind, claim.metadata.namespace!, snapshot.name, SNAPSHOT_WITHIN_MS, late, ({ status }) =>
    readyOf(path, status)?.ready ? true : null,
  )
  const { accessModes, resources, storageClassName } = claim.spec as Record<string, unknown>
  return temporary.make(temporary.resource('PersistentVolumeClaim'), claim.metadata.namespace!, {
    spec: {
      accessModes,
      resources,
      storageClassName,
      dataSource: { apiGroup: SNAPSHOT_GROUP, kind: 'VolumeSnapshot', name: snapshot.name },
    },
  })
}

/**
 * What a reader's shell does: it stays for some hours, and after them as long as commands run beside it, however long one
 * takes. When none was there for a while it was forgotten, and ends.
 *
 * @param proc where processes are folders with their number as name
 */
export const whileUsed = ({ staySeconds = 6 * 3600, lookSeconds = 10, looks = 60, proc = '/proc' } = {}) =>
  `sleep ${staySeconds}; alone=0; while [ $alone -lt ${looks} ]; do sleep ${lookSeconds}; set -- ${proc}/[0-9]*; ` +
  `if [ $# -gt 1 ]; then alone=0; else alone=$((alone+1)); fi; done`

/** A pod that has a claim's volume and nothing to do of its own. */
export async function readerPod(
  client: ClusterClient,
  temporary: Temporary,
  wanted: Pick<WantedVolume, 'path' | 'claim'>,
  claimName: string,
  writes = false,
): Promise<ExecTarget> {
  const namespace = wanted.claim.metadata.namespace!
  const kind = temporary.resource('Pod')
  const image = client.access.settings.readerImage ?? READER_IMAGE
  // A volume that only one node may have is read where it is.
  const nodeName = claimName === wanted.claim.metadata.name ? await nodeOf(client, temporary, wanted) : undefined
  const pod = await temporary.make(kind, namespace, {
    spec: {
      restartPolicy: 'Never',
      automountServiceAccountToken: false,
      terminationGracePeriodSeconds: 0,
      ...(nodeName ? { nodeName } : {}),
      containers: [
        {
          name: CONTAINER,
          image,
          command: ['sh', '-c', whileUsed()],
          securityContext: { runAsUser: 0 },
          volumeMounts: [{ name: 'volume', mountPath: MOUNT, readOnly: !writes }],
        },
      ],
      volumes: [{ name: 'volume', persistentVolumeClaim: { claimName } }],
    },
  })
  await temporary.until(kind, namespace, pod, READY_WITHIN_MS, `The pod that reads ${wanted.path} did not start`, ({ status }) => {
    const { phase, containerStatuses } = (status ?? {}) as {
      phase?: string
      containerStatuses?: { ready: boolean; state?: { waiting?: { reason?: string; message?: string } } }[]
    }
    const { reason, message } = containerStatuses?.[0]?.state?.waiting ?? {}
    if (reason && /ImagePull|ErrImage|InvalidImageName/.test(reason))
      throw refused(
        `The pod that reads ${wanted.path} can’t start: ${message ?? reason}.`,
        `See that the cluster can pull ${image}, or name another image where the source is changed.`,
      )
    if (phase === 'Failed') throw refused(`The pod that reads ${wanted.path} ended at once.`)
    return phase === 'Running' && containerStatuses?.every(({ ready }) => ready) ? true : null
  })
  return { namespace, pod, container: CONTAINER }
}

async function nodeOf(client: ClusterClient, temporary: Temporary, wanted: Pick<WantedVolume, 'claim'>): Promise<string | undefined> {
  for await (const { spec } of podsThatHave(client, temporary, wanted)) if (spec?.nodeName) return String(spec.nodeName)
  return undefined
}

async function* podsThatHave(
  client: ClusterClient,
  temporary: Temporary,
  { claim }: Pick<WantedVolume, 'claim'>,
): AsyncGenerator<KubeObject> {
  const { namespace, name } = claim.metadata
  for await (const pod of client.list(temporary.resource('Pod'), namespace)) {
    const volumes = (pod.spec?.volumes ?? []) as { persistentVolumeClaim?: { claimName: string } }[]
    if (volumes.some((volume) => volume.persistentVolumeClaim?.claimName === name)) yield pod
  }
}

/** Whether a pod that is not ours has a volume now, so that its files may be written to. */
export async function isInUse(client: ClusterClient, temporary: Temporary, wanted: Pick<WantedVolume, 'claim'>): Promise<boolean> {
  for await (const pod of podsThatHave(client, temporary, wanted)) {
    const isOver = ['Succeeded', 'Failed'].includes(String((pod.status as { phase?: string } | undefined)?.phase))
    if (!isOurs(pod) && !isOver) return true
  }
  return false
}

/** Claims that are in a namespace now, by the path of their volume. */
export async function claimsIn(client: ClusterClient, temporary: Temporary, namespace: string): Promise<Map<string, KubeObject>> {
  const claims = new Map<string, KubeObject>()
  const { items } = await client.ask<{ items: KubeObject[] }>(resourcePath(temporary.resource('PersistentVolumeClaim'), namespace))
  for (const claim of items) claims.set(volumePath(client.access.name, namespace, claim.metadata.name), claim)
  return claims
}
