import { createHash } from 'node:crypto'
import { canonical, cleaned } from '../../../core/cluster/clean'
import { ByteChunker } from '../../../core/content/bytes'
import type { Manifest, Missing, NamespaceManifest, ObjectEntry, VolumeManifest } from '../../../core/content/manifest'
import { errorRecord } from '../../../core/errors'
import { select } from '../../../core/selection/rules'
import { CLUSTER_WIDE, isWithin, namesOf, pathOf, type Thing } from '../../../core/things/thing'
import { writeJson } from '../../runs/manifests'
import type { CaptureJob } from '../source'
import type { ClusterClient } from './client'
import { clusterId } from './probe'
import { isOurs, Temporary } from './temporary'
import { survey, thingsOf, type Found, type Survey } from './discover'
import { readVolume } from './reader'
import { claimOfSnapshot, claimsIn, readerPod, takeSnapshot, type VolumeSnapshot, type WantedVolume } from './volumes'

/** Captures everything of a cluster that the rules take, namespace by namespace: volumes first, then the objects. */
export async function captureCluster(client: ClusterClient, job: CaptureJob): Promise<Manifest> {
  const { name } = client.access
  const seen = await survey(client)
  const things = [...thingsOf(name, seen)]
  const { taken } = select(job.rules, things)
  const places = [...new Set(taken.map(({ path }) => namesOf(path)[1]!))].sort()
  const temporary = new Temporary(client, seen.resources, job.run, job.progress.signal)
  const namespaces: NamespaceManifest[] = []
  try {
    for (const place of places) namespaces.push(await new CaptureOfNamespace(client, job, temporary, seen, things, taken, place).go())
  } finally {
    for (const left of await temporary.removeAll()) await job.progress.say('warning', `It could not be removed after reading: ${left}`)
  }
  return {
    format: 1,
    kind: 'full',
    member: name,
    server: { version: seen.version, versionNumber: 0, systemId: await clusterId(client) },
    databases: [],
    namespaces,
  }
}

class CaptureOfNamespace {
  private readonly member: string
  private readonly root: string
  private readonly taken: Thing[]
  private readonly missing: Missing[] = []

  constructor(
    private readonly client: ClusterClient,
    private readonly job: CaptureJob,
    private readonly temporary: Temporary,
    private readonly seen: Survey,
    private readonly things: Thing[],
    taken: Thing[],
    private readonly place: string,
  ) {
    this.member = `${client.access.name} / ${place}`
    this.root = pathOf(client.access.name, place)
    this.taken = taken.filter(({ path }) => isWithin(path, this.root))
  }

  async go(): Promise<NamespaceManifest> {
    const { progress } = this.job
    const wanted = this.wantedVolumes()
    const shots = wanted.some(({ snapshots }) => snapshots)
      ? await progress.plan({ kind: 'snapshot', member: this.member, title: 'Snapshots' })
      : -1
    const objects = await progress.plan({ kind: 'structure', member: this.member, title: 'Objects' })
    const steps = new Map<WantedVolume, number>()
    for (const one of wanted) steps.set(one, await progress.plan({ kind: 'volume', member: this.member, title: namesOf(one.path).at(-1)! }))
    if (this.place !== CLUSTER_WIDE) await this.temporary.sweep(this.place, this.job.isAtWork)
    const taken = shots < 0 ? new Map<WantedVolume, VolumeSnapshot>() : await progress.step(shots, () => this.snapshots(wanted))
    const at = new Date().toISOString()
    const kept = await progress.step(objects, async (count) => {
      const found = await this.objects()
      count('structures', found.entries.length)
      return found
    })
    const volumes = await this.readAll(wanted, taken, steps)
    await this.sayWhatIsNew()
    for (const { path, reason, note } of this.missing)
      await progress.say(note ? 'info' : 'warning', `${path} is not${note ? ' wholly' : ''} covered. ${reason}`)
    return {
      name: this.place,
      at,
      labels: this.things.find(({ path }) => path === this.root)?.labels ?? {},
      objects: kept.entries,
      chunks: kept.chunks,
      volumes,
      missing: this.missing,
    }
  }

  private wantedVolumes(): WantedVolume[] {
    const claims = new Map(
      this.seen.found
        .filter(({ object }) => object.kind === 'PersistentVolumeClaim')
        .map(({ object }) => [pathOf(this.client.access.name, object.metadata.namespace!, 'volume', object.metadata.name), object]),
    )
    const wanted: WantedVolume[] = []
    for (const { path, kind, facts } of this.taken) {
      if (kind !== 'volume') continue
      if (facts.trouble) this.missing.push({ path, reason: facts.trouble })
      else wanted.push({ path, claim: claims.get(path)!, snapshots: facts.snapshots === true })
    }
    return wanted
  }

  /** Of all volumes at once, so that they lie as closely together as can be. */
  private async snapshots(wanted: WantedVolume[]): Promise<Map<WantedVolume, VolumeSnapshot>> {
    const taken = new Map<WantedVolume, VolumeSnapshot>()
    await Promise.all(
      wanted
        .filter(({ snapshots }) => snapshots)
        .map(async (one) => {
          try {
            taken.set(one, await takeSnapshot(this.temporary, one))
          } catch (error) {
            this.job.progress.signal.throwIfAborted()
            await this.job.progress.say('warning', `${errorRecord(this.client.translate(error)).what} It is read in place instead.`)
          }
        }),
    )
    return taken
  }

  /** The objects that the rules take, and what they need of the cluster; as lines of canonical JSON. */
  private async objects(): Promise<{ entries: ObjectEntry[]; chunks: string[] }> {
    const paths = new Set(this.taken.filter(({ kind }) => kind === 'object').map(({ path }) => path))
    const byPath = new Map(this.seen.found.map((one) => [one.path, one]))
    const facts = new Map(this.things.map((thing) => [thing.path, thing.facts]))
    const wide = new Set<string>()
    const follow = (path: string) => {
      for (const used of facts.get(path)?.uses ?? []) {
        if (namesOf(used)[1] !== CLUSTER_WIDE || wide.has(used) || paths.has(used)) continue
        wide.add(used)
        follow(used)
      }
    }
    for (const path of paths) follow(path)
    const entries: ObjectEntry[] = []
    const chunker = new ByteChunker()
    const chunks: string[] = []
    const put = async (bytes: Uint8Array<ArrayBuffer>) => chunks.push((await this.job.writer.put(bytes)).name)
    for (const path of [...paths, ...wide].sort()) {
      const found = byPath.get(path)!
      const text = canonical(cleaned(found.object))
      entries.push(entryOf(found, text, entries.length, facts.get(path)?.uses ?? [], wide.has(path)))
      for (const chunk of chunker.push(Buffer.from(`${text}\n`))) await put(chunk)
    }
    const last = chunker.end()
    if (last) await put(last)
    const refused = this.seen.closed.filter((name) => !name.includes('clusterrole'))
    if (refused.length > 0) this.missing.push({ path: this.root, reason: `These can’t be listed: ${refused.join(', ')}.` })
    return { entries, chunks }
  }

  /** Several volumes at once; one that can't be read leaves the others, and is told. */
  private async readAll(
    wanted: WantedVolume[],
    snapshots: Map<WantedVolume, VolumeSnapshot>,
    steps: Map<WantedVolume, number>,
  ): Promise<VolumeManifest[]> {
    const queue = [...wanted]
    const volumes: VolumeManifest[] = []
    const { progress, readers } = this.job
    const work = async () => {
      for (let one = queue.shift(); one; one = queue.shift()) {
        const volume = one
        try {
          volumes.push(await progress.step(steps.get(volume)!, (count) => this.readOne(volume, snapshots.get(volume), count)))
        } catch (error) {
          progress.signal.throwIfAborted()
          const { what } = errorRecord(this.client.translate(error))
          this.missing.push({ path: volume.path, reason: what })
        }
      }
    }
    await Promise.all(Array.from({ length: Math.max(1, Math.min(readers, queue.length)) }, work))
    return volumes.sort((a, b) => (a.path < b.path ? -1 : 1))
  }

  private async readOne(
    wanted: WantedVolume,
    snapshot: VolumeSnapshot | undefined,
    count: (counter: string, by: number) => void,
  ): Promise<VolumeManifest> {
    const { signal } = this.job.progress
    const claimName = snapshot ? await claimOfSnapshot(this.temporary, wanted, snapshot) : wanted.claim.metadata.name
    const target = await readerPod(this.client, this.temporary, wanted, claimName)
    const content = await readVolume(this.client, target, wanted.path, this.job.writer, signal, (files, bytes, stored) => {
      count('files', files)
      count('bytes', bytes)
      count('stored', stored)
    })
    this.missing.push(...content.missing)
    const { storageClassName } = wanted.claim.spec as { storageClassName?: string }
    const { capacity } = (wanted.claim.status ?? {}) as { capacity?: { storage?: string } }
    await this.temporary.remove(this.temporary.resource('Pod'), target.namespace, target.pod)
    return {
      path: wanted.path,
      claim: wanted.claim.metadata.name,
      storageClass: storageClassName ?? '',
      capacity: capacity?.storage ?? '',
      how: snapshot ? 'snapshot' : 'in place',
      at: snapshot?.at ?? new Date().toISOString(),
      files: content.entries.filter(({ type }) => type === 'file').length,
      bytes: content.bytes,
      fingerprint: content.fingerprint,
      entries: await writeJson(this.job.writer, content.entries),
    }
  }

  /** A volume that was added while others were read is in no snapshot; it must not be missed silently. */
  private async sayWhatIsNew(): Promise<void> {
    if (this.place === CLUSTER_WIDE || !this.taken.some(({ kind }) => kind === 'volume')) return
    const known = new Set(this.things.map(({ path }) => path))
    for (const [path, claim] of await claimsIn(this.client, this.temporary, this.place)) {
      if (known.has(path) || isOurs(claim)) continue
      this.missing.push({ path, reason: 'It was added while this backup ran. Back up again, and it is taken if a rule names it.' })
    }
  }
}

function entryOf({ object, path, resource }: Found, text: string, line: number, uses: string[], wide: boolean): ObjectEntry {
  return {
    path,
    group: resource.group,
    version: resource.version,
    kind: resource.kind,
    name: object.metadata.name,
    labels: object.metadata.labels ?? {},
    digest: createHash('sha256').update(text).digest('hex'),
    bytes: Buffer.byteLength(text),
    line,
    uses,
    ...(wide ? { wide } : {}),
  }
}
