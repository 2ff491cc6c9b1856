import { execFile } from 'node:child_process'
import { mkdir, rm } from 'node:fs/promises'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { prepared, quantityOf, withDefaults } from './admission'
import { change, type Parts } from './parts'
import type { KubeObject } from './resources'

const run = promisify(execFile)
const CLAIMS = { group: '', plural: 'persistentvolumeclaims' }
const VOLUMES = { group: '', plural: 'persistentvolumes' }
const SNAPSHOT = 'snapshot.storage.k8s.io'
const SNAPSHOTS = { group: SNAPSHOT, plural: 'volumesnapshots' }
const CONTENTS = { group: SNAPSHOT, plural: 'volumesnapshotcontents' }

/** Stops whoever writes to a volume while it is copied, as storage that takes snapshots does not let writes through. */
export type Freeze = (claim: KubeObject) => () => void

/** Claims get volumes, which are real folders; snapshots are copies of them at one moment. */
export class Volumes {
  private readonly busy = new Set<string>()

  constructor(
    private readonly parts: Parts,
    private readonly freeze: Freeze,
  ) {}

  folderOf(volume: string): string {
    return join(this.parts.folder, 'volumes', volume)
  }

  private snapshotFolder(handle: string): string {
    return join(this.parts.folder, 'snapshots', handle)
  }

  /** The largest file that the volumes of a pod take, in bytes, where the parameters of their class say so; null otherwise. */
  largestFile(pod: KubeObject): number | null {
    const { objects } = this.parts
    const claims = objects.list(CLAIMS, pod.metadata.namespace).filter((claim) => usesClaim(pod, claim.metadata.name))
    const limits = claims.flatMap(({ spec }) => {
      const storage = objects.find({ group: 'storage.k8s.io', plural: 'storageclasses' }, undefined, spec!.storageClassName)
      const { largestFile } = (storage?.parameters ?? {}) as { largestFile?: string }
      return largestFile === undefined ? [] : [Number(largestFile)]
    })
    return limits.length === 0 ? null : Math.min(...limits)
  }

  look(): void {
    const { objects } = this.parts
    for (const claim of objects.list(CLAIMS)) {
      if (!claim.spec?.volumeName && !claim.metadata.deletionTimestamp) this.once(`bind ${claim.metadata.uid}`, () => this.bind(claim))
      if (claim.metadata.deletionTimestamp) this.letGo(claim)
    }
    for (const volume of objects.list(VOLUMES)) if (!volume.metadata.deletionTimestamp) this.reclaim(volume)
    for (const snapshot of objects.list(SNAPSHOTS))
      if (!snapshot.status?.readyToUse && !snapshot.status?.error && !snapshot.metadata.deletionTimestamp)
        this.once(`snapshot ${snapshot.metadata.uid}`, () => this.snapshot(snapshot))
    for (const content of objects.list(CONTENTS)) this.endContent(content)
  }

  private once(key: string, work: () => Promise<void>): void {
    if (this.busy.has(key)) return
    this.busy.add(key)
    void work()
      .catch((error: Error) => console.error(`${key}: ${error.message}`))
      .finally(() => this.busy.delete(key))
  }

  private async bind(claim: KubeObject): Promise<void> {
    const { objects, typeOf } = this.parts
    const spec = claim.spec!
    const storage = objects.find({ group: 'storage.k8s.io', plural: 'storageclasses' }, undefined, spec.storageClassName)
    if (!storage) return
    const late = storage.volumeBindingMode === 'WaitForFirstConsumer'
    const wanted = objects.list({ group: '', plural: 'pods' }, claim.metadata.namespace).some((pod) => usesClaim(pod, claim.metadata.name))
    if (late && !wanted) return
    const from = await this.sourceOf(claim)
    if (from === undefined) return
    const name = `pvc-${claim.metadata.uid}`
    await mkdir(this.folderOf(name), { recursive: true })
    if (from) await run('cp', ['-a', `${from}/.`, this.folderOf(name)])
    const body = {
      metadata: { name, annotations: { 'pv.kubernetes.io/provisioned-by': storage.provisioner } },
      spec: {
        capacity: { storage: spec.resources.requests.storage },
        accessModes: spec.accessModes,
        storageClassName: spec.storageClassName,
        persistentVolumeReclaimPolicy: storage.reclaimPolicy ?? 'Delete',
        claimRef: {
          kind: 'PersistentVolumeClaim',
          namespace: claim.metadata.namespace,
          name: claim.metadata.name,
          uid: claim.metadata.uid,
        },
        csi: { driver: storage.provisioner, volumeHandle: name },
      },
    }
    const type = typeOf('PersistentVolume')
    const volume = objects.create(type, withDefaults(prepared(type, undefined, { kind: 'PersistentVolume', ...body }, 'storage'), objects))
    change(this.parts, 'PersistentVolume', volume, (current) => (current.status = { phase: 'Bound' }))
    change(this.parts, 'PersistentVolumeClaim', claim, (current) => (current.spec!.volumeName = name), 'spec')
    change(this.parts, 'PersistentVolumeClaim', claim, (current) => {
      current.status = { phase: 'Bound', accessModes: spec.accessModes, capacity: body.spec.capacity }
    })
  }

  /** The folder that a claim begins with; null for an empty one, undefined when it is not there yet. */
  private async sourceOf(claim: KubeObject): Promise<string | null | undefined> {
    const source = (claim.spec!.dataSource ?? claim.spec!.dataSourceRef) as { kind: string; name: string } | undefined
    if (!source) return null
    const { objects } = this.parts
    if (source.kind === 'VolumeSnapshot') {
      const snapshot = objects.find(SNAPSHOTS, claim.metadata.namespace, source.name)
      const content = objects.find(CONTENTS, undefined, String(snapshot?.status?.boundVolumeSnapshotContentName))
      return snapshot?.status?.readyToUse ? this.snapshotFolder(content!.status!.snapshotHandle) : undefined
    }
    const other = objects.find(CLAIMS, claim.metadata.namespace, source.name)
    return other?.spec?.volumeName ? this.folderOf(other.spec.volumeName) : undefined
  }

  /** A claim that nobody uses any more may go. */
  private letGo(claim: KubeObject): void {
    const users = this.parts.objects.list({ group: '', plural: 'pods' }, claim.metadata.namespace)
    if (users.some((pod) => usesClaim(pod, claim.metadata.name))) return
    change(
      this.parts,
      'PersistentVolumeClaim',
      claim,
      ({ metadata }) => (metadata.finalizers = metadata.finalizers?.filter((finalizer) => finalizer !== 'kubernetes.io/pvc-protection')),
      'spec',
    )
  }

  private reclaim(volume: KubeObject): void {
    const ref = volume.spec!.claimRef as { namespace: string; name: string; uid: string } | undefined
    const claim = ref && this.parts.objects.find(CLAIMS, ref.namespace, ref.name)
    if (!ref || claim?.metadata.uid === ref.uid) return
    if (volume.spec!.persistentVolumeReclaimPolicy === 'Retain') {
      if (volume.status?.phase !== 'Released')
        change(this.parts, 'PersistentVolume', volume, (current) => (current.status = { phase: 'Released' }))
      return
    }
    this.parts.objects.remove(this.parts.typeOf('PersistentVolume'), undefined, volume.metadata.name)
    void rm(this.folderOf(volume.metadata.name), { recursive: true, force: true })
  }

  private async snapshot(snapshot: KubeObject): Promise<void> {
    const { objects, typeOf } = this.parts
    const { namespace } = snapshot.metadata
    const fail = (message: string) =>
      change(
        this.parts,
        'VolumeSnapshot',
        snapshot,
        (current) => (current.status = { readyToUse: false, error: { message, time: new Date().toISOString() } }),
      )
    const claim = objects.find(CLAIMS, namespace, snapshot.spec?.source?.persistentVolumeClaimName)
    const volume = claim?.spec?.volumeName && objects.find(VOLUMES, undefined, claim.spec.volumeName)
    if (!claim || !volume) return fail('the claim has no volume')
    const classes = objects.list({ group: SNAPSHOT, plural: 'volumesnapshotclasses' })
    const asked = snapshot.spec!.volumeSnapshotClassName as string | undefined
    const kind = classes.find(({ metadata, driver }) => (asked ? metadata.name === asked : driver === volume.spec!.csi.driver))
    if (!kind || kind.driver !== volume.spec!.csi.driver) return fail(`no snapshot class of the driver ${volume.spec!.csi.driver}`)
    // A class may be slow, or never get anywhere, as some do.
    const { delayMs = '0', stuck } = (kind.parameters ?? {}) as { delayMs?: string; stuck?: string }
    const name = `snapcontent-${snapshot.metadata.uid}`
    const type = typeOf('VolumeSnapshotContent')
    const body = {
      kind: 'VolumeSnapshotContent',
      metadata: { name },
      spec: {
        deletionPolicy: kind.deletionPolicy ?? 'Delete',
        driver: kind.driver,
        source: { volumeHandle: volume.spec!.csi.volumeHandle },
        volumeSnapshotClassName: kind.metadata.name,
        volumeSnapshotRef: { kind: 'VolumeSnapshot', namespace, name: snapshot.metadata.name, uid: snapshot.metadata.uid },
      },
    }
    if (!objects.find(CONTENTS, undefined, name)) objects.create(type, prepared(type, undefined, body, 'storage'))
    if (stuck === 'true') return
    const handle = snapshot.metadata.uid
    const thaw = this.freeze(claim)
    let creationTime: string
    try {
      creationTime = new Date().toISOString()
      await mkdir(this.snapshotFolder(handle), { recursive: true })
      await run('cp', ['-a', `${this.folderOf(volume.metadata.name)}/.`, this.snapshotFolder(handle)])
    } finally {
      thaw()
    }
    await new Promise((resolve) => setTimeout(resolve, Number(delayMs)))
    const restoreSize = claim.status!.capacity.storage as string
    const content = objects.find(CONTENTS, undefined, name)
    if (content)
      change(this.parts, 'VolumeSnapshotContent', content, (current) => {
        current.status = {
          readyToUse: true,
          snapshotHandle: handle,
          creationTime: Date.parse(creationTime) * 1e6,
          restoreSize: quantityOf(restoreSize),
        }
      })
    change(this.parts, 'VolumeSnapshot', snapshot, (current) => {
      current.status = { readyToUse: true, boundVolumeSnapshotContentName: name, creationTime, restoreSize }
    })
  }

  private endContent(content: KubeObject): void {
    const ref = content.spec!.volumeSnapshotRef as { namespace: string; name: string; uid: string }
    const snapshot = this.parts.objects.find(SNAPSHOTS, ref.namespace, ref.name)
    if (snapshot?.metadata.uid === ref.uid || content.spec!.deletionPolicy === 'Retain') return
    this.parts.objects.remove(this.parts.typeOf('VolumeSnapshotContent'), undefined, content.metadata.name)
    const handle = content.status?.snapshotHandle as string | undefined
    if (handle) void rm(this.snapshotFolder(handle), { recursive: true, force: true })
  }
}

export const usesClaim = ({ spec }: KubeObject, claim: string): boolean =>
  ((spec?.volumes ?? []) as { persistentVolumeClaim?: { claimName: string } }[]).some(
    (volume) => volume.persistentVolumeClaim?.claimName === claim,
  )
