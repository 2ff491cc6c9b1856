import type { Manifest, Missing, NamespaceManifest, VolumeManifest } from '../../../core/content/manifest'
import { errorRecord } from '../../../core/errors'
import { select } from '../../../core/selection/rules'
import { CLUSTER_WIDE, isWithin, namesOf, pathOf, volumePath, type Thing } from '../../../core/things/thing'
import { countInWords } from '../../../core/time/words'
import { inParallel } from '../../parallel'
import type { CaptureJob } from '../source'
import { keepObjects } from './capture-objects'
import type { ClusterClient } from './client'
import { clusterId } from './probe'
import { isOurs, removeLeftOver, Temporary } from './temporary'
import { survey, thingsOf, type Survey } from './discover'
import type { ExecTarget } from './exec'
import { SNAPSHOT_GROUP } from './storage'
import { contentOf, noFolder, readVolume, type ReadVolume } from './reader'
import { countedBy } from './taken-files'
import { claimOfSnapshot, claimsIn, isInUse, readerPod, takeSnapshot, type VolumeSnapshot, type WantedVolume } from './volumes'

/** A cluster as it is at a moment, and what the rules take of it. */
interface Seen extends Survey {
  things: Thing[]
  taken: Thing[]
  /** Paths of what rules leave out. */
  left: ReadonlySet<string>
}

async function look(client: ClusterClient, job: CaptureJob): Promise<Seen> {
  const seen = await survey(client)
  const things = [...thingsOf(client.access.name, seen)]
  const { taken, left } = select(job.rules, things)
  return { ...seen, things, taken, left: new Set(left.map(({ path }) => path)) }
}

/**
 * Captures everything of a cluster that the rules take: at the moment the snapshots of all volumes, and the content of
 * those that give none; then, when nothing is held any more, the objects, and what the snapshots hold.
 */
export async function captureCluster(client: ClusterClient, job: CaptureJob): Promise<Manifest> {
  const before = await look(client, job)
  const places = [...new Set(before.taken.map(({ path }) => namesOf(path)[1]!))].sort()
  const temporary = new Temporary(client, before.resources, job.run, job.progress.signal)
  const captures = places.map((place) => new CaptureOfNamespace(client, job, temporary, before, place))
  const namespaces: NamespaceManifest[] = []
  const closing = await job.willLeave(client.access.name)
  try {
    for (const capture of captures) await capture.open()
    await job.moment.reached()
    await Promise.all(captures.map((capture) => capture.take()))
    await job.moment.taken()
    const after = await look(client, job)
    for (const capture of captures) namespaces.push(await capture.finish(after))
  } finally {
    await temporary.close(closing, (leftover) => job.progress.say('warning', `It could not be removed after reading: ${leftover}`))
  }
  return {
    format: 1,
    kind: 'full',
    member: client.access.name,
    server: { version: before.version, versionNumber: 0, systemId: await clusterId(client) },
    databases: [],
    namespaces,
  }
}

class CaptureOfNamespace {
  private readonly member: string
  private readonly root: string
  private readonly missing: Missing[] = []
  private readonly wanted: WantedVolume[]
  private readonly steps = new Map<WantedVolume, number>()
  private objectsStep = 0
  private readonly snapshots = new Map<WantedVolume, VolumeSnapshot>()
  private readonly readers = new Map<WantedVolume, ExecTarget>()
  private readonly volumes: VolumeManifest[] = []
  private shotsStep = -1
  private at = ''

  constructor(
    private readonly client: ClusterClient,
    private readonly job: CaptureJob,
    private readonly temporary: Temporary,
    private readonly before: Seen,
    private readonly place: string,
  ) {
    this.member = `${client.access.name} / ${place}`
    this.root = pathOf(client.access.name, place)
    this.wanted = this.wantedVolumes()
  }

  private takenIn({ taken }: Seen): Thing[] {
    return taken.filter(({ path }) => isWithin(path, this.root))
  }

  /** Everything that can be done before the moment, so that it stays short. */
  async open(): Promise<void> {
    const { progress } = this.job
    const { wanted, member } = this
    if (this.place !== CLUSTER_WIDE) await removeLeftOver(this.client, this.job.isOver, this.place)
    if (wanted.some(({ snapshots }) => snapshots)) this.shotsStep = await progress.plan({ kind: 'snapshot', member, title: 'Snapshots' })
    this.objectsStep = await progress.plan({ kind: 'structure', member, title: 'Objects' })
    for (const volume of wanted)
      this.steps.set(volume, await progress.plan({ kind: 'volume', member, title: namesOf(volume.path).at(-1)! }))
    await Promise.all(wanted.filter(({ snapshots }) => !snapshots).map((volume) => this.openReader(volume)))
  }

  /** The moment: snapshots, and volumes that give none. */
  async take(): Promise<void> {
    const { progress, moment } = this.job
    const from = Date.now()
    this.at = new Date(from).toISOString()
    if (this.shotsStep >= 0) await progress.step(this.shotsStep, () => this.takeSnapshots())
    await this.readAll(this.wanted.filter((volume) => !this.snapshots.has(volume)))
    moment.captured(this.root, from, Date.now())
  }

  /** Keeps the objects, and reads the volumes. */
  async finish(after: Seen): Promise<NamespaceManifest> {
    const { progress } = this.job
    const { entries, chunks } = await progress.step(this.objectsStep, async (count) => {
      const taken = this.takenIn(after).filter(({ kind }) => kind === 'object')
      const found = await keepObjects(
        after,
        taken.map(({ path }) => path),
        this.job.writer,
      )
      const refused = after.closed.filter((name) => !name.includes('clusterrole'))
      if (refused.length > 0) this.missing.push({ path: this.root, reason: `These can’t be listed: ${refused.join(', ')}.` })
      count('objects', found.entries.length)
      for (const path of found.leftOut) await progress.say('info', `${path} is needed here, and left out by a rule.`)
      return found
    })
    await this.readAll([...this.snapshots.keys()])
    const volumes = this.volumes.sort((a, b) => (a.path < b.path ? -1 : 1))
    await this.sayWhatIsNew(after)
    for (const { path, reason, note, onlyAt } of this.missing) {
      const what = onlyAt ? 'is only at its source' : note ? 'is not wholly covered' : 'is not covered'
      await progress.say(note ? 'info' : 'warning', `${path} ${what}. ${reason}`)
    }
    const labels = after.things.find(({ path }) => path === this.root)?.labels ?? {}
    return { name: this.place, at: this.at, labels, objects: entries, chunks, volumes, missing: this.missing }
  }

  private wantedVolumes(): WantedVolume[] {
    const claims = new Map(
      this.before.found
        .filter(({ object }) => object.kind === 'PersistentVolumeClaim')
        .map(({ object }) => [volumePath(this.client.access.name, object.metadata.namespace!, object.metadata.name), object]),
    )
    const wanted: WantedVolume[] = []
    for (const { path, kind, facts } of this.takenIn(this.before)) {
      if (kind !== 'volume') continue
      if (facts.trouble) this.missing.push({ path, reason: facts.trouble })
      else wanted.push({ path, claim: claims.get(path)!, snapshots: facts.snapshots === true })
    }
    return wanted
  }

  /** Of all volumes at once, so that they lie as closely together as can be. */
  private async takeSnapshots(): Promise<void> {
    await Promise.all(
      this.wanted
        .filter(({ snapshots }) => snapshots)
        .map(async (volume) => {
          try {
            this.snapshots.set(volume, await takeSnapshot(this.temporary, volume, this.job.moment.remainingMs()))
          } catch (error) {
            this.job.progress.signal.throwIfAborted()
            await this.job.progress.say('warning', `${errorRecord(this.client.translate(error)).what} It is read in place instead.`)
          }
        }),
    )
  }

  /** A pod that has the volume itself; where it can't start, the volume is told to be missing when it is to be read. */
  private async openReader(volume: WantedVolume): Promise<void> {
    const opened = await readerPod(this.client, this.temporary, volume, volume.claim.metadata.name).catch((error: unknown) => {
      this.job.progress.signal.throwIfAborted()
      this.lose(volume, error)
    })
    if (opened) this.readers.set(volume, opened)
  }

  private lose({ path }: WantedVolume, error: unknown): void {
    this.missing.push({ path, reason: errorRecord(this.client.translate(error)).what })
  }

  /** Several volumes at once; one that can't be read leaves the others, and is told. */
  private async readAll(wanted: WantedVolume[]): Promise<void> {
    const lost = new Set(this.missing.map(({ path }) => path))
    const { progress, readers } = this.job
    await inParallel(
      wanted.filter(({ path }) => !lost.has(path)),
      readers,
      async (volume) => {
        try {
          const read = await progress.step(this.steps.get(volume)!, (count) => this.readOne(volume, this.snapshots.get(volume), count))
          this.volumes.push(read)
        } catch (error) {
          progress.signal.throwIfAborted()
          // What the store refuses is no fault of a volume.
          if (this.job.writer.failure !== undefined) throw this.job.writer.failure
          await this.leave(volume, error)
        }
      },
    )
  }

  /** What can't be read stays in the snapshot that was taken of it, if there is one: better in one place only than in none. */
  private async leave(wanted: WantedVolume, error: unknown): Promise<void> {
    const snapshot = this.snapshots.get(wanted)
    const { keptAtSource } = this.job
    // Where the wrong folder was named, reading again would not help.
    if (!snapshot || !keptAtSource || errorRecord(error).code === 'no_such_folder') return this.lose(wanted, error)
    try {
      keptAtSource()
      await this.temporary.keep(this.temporary.resource('VolumeSnapshot', SNAPSHOT_GROUP), wanted.claim.metadata.namespace!, snapshot.name)
    } catch (failure) {
      return this.lose(wanted, failure)
    }
    const { what } = errorRecord(this.client.translate(error))
    const reason = `Its data is only in the snapshot ${snapshot.name} at the source, because that could not be read. ${what}`
    this.missing.push({ path: wanted.path, reason, onlyAt: snapshot.name })
    const nothing = { files: 0, bytes: 0, fingerprint: '', entries: [] }
    this.volumes.push({ ...this.about(wanted), ...nothing, how: 'snapshot', at: snapshot.at, onlyAt: snapshot.name })
  }

  private about({ path, claim }: WantedVolume): Pick<VolumeManifest, 'path' | 'claim' | 'storageClass' | 'capacity' | 'folder'> {
    const { storageClassName = '' } = claim.spec as { storageClassName?: string }
    const { capacity } = (claim.status ?? {}) as { capacity?: { storage?: string } }
    const { folder } = this.job.folderToRead(path)
    return {
      path,
      claim: claim.metadata.name,
      storageClass: storageClassName,
      capacity: capacity?.storage ?? '',
      ...(folder === '' ? {} : { folder }),
    }
  }

  private async readerOf(wanted: WantedVolume, snapshot: VolumeSnapshot | undefined): Promise<ExecTarget> {
    const opened = this.readers.get(wanted)
    if (opened) return opened
    const claimName = snapshot ? await claimOfSnapshot(this.temporary, wanted, snapshot) : wanted.claim.metadata.name
    return readerPod(this.client, this.temporary, wanted, claimName)
  }

  private async readOne(
    wanted: WantedVolume,
    snapshot: VolumeSnapshot | undefined,
    count: (counter: string, by: number) => void,
  ): Promise<VolumeManifest> {
    const { signal } = this.job.progress
    const { folder, trouble } = this.job.folderToRead(wanted.path)
    if (trouble !== null) throw noFolder(wanted.path, trouble)
    const target = await this.readerOf(wanted, snapshot)
    const isUsed = () => isInUse(this.client, this.temporary, wanted)
    const wasUsed = !snapshot && (await isUsed())
    const content = await readVolume({
      client: this.client,
      target,
      path: wanted.path,
      folder,
      writer: this.job.writer,
      signal,
      ...countedBy(this.job.progress, count),
      earlier: await this.job.earlierFiles(wanted.path),
    })
    await this.sayWhatWasUnread(wanted.path, content)
    this.missing.push(...content.missing)
    await this.temporary.remove(this.temporary.resource('Pod'), target.namespace, target.pod)
    const read = await contentOf(content, this.job.writer)
    if (snapshot) {
      count('snapshots read', 1)
      return { ...this.about(wanted), ...read, how: 'snapshot', at: snapshot.at }
    }
    const at = new Date().toISOString()
    const inUse = wasUsed || (await isUsed())
    count(inUse ? 'volumes read in use' : 'volumes read at rest', 1)
    return { ...this.about(wanted), ...read, how: 'in place', inUse, at }
  }

  private async sayWhatWasUnread(path: string, { files: all, unread, compared }: ReadVolume): Promise<void> {
    if (unread === 0) return
    const files = countInWords(all)
    const how = compared > 0 ? `, ${countInWords(compared)} of them by checksum` : ''
    await this.job.progress.say(
      'info',
      `${path}: ${countInWords(unread)} of ${files} files are as they were${how}; they were not read again.`,
    )
  }

  /** A volume that was added while this went on is in no snapshot; it must not be missed silently. */
  private async sayWhatIsNew(after: Seen): Promise<void> {
    if (this.place === CLUSTER_WIDE || !this.takenIn(after).some(({ kind }) => kind === 'volume')) return
    const known = new Set(this.before.things.map(({ path }) => path))
    for (const [path, claim] of await claimsIn(this.client, this.temporary, this.place)) {
      if (known.has(path) || isOurs(claim)) continue
      this.missing.push({ path, reason: 'It was added while this backup ran. Back up again, and it is taken if a rule names it.' })
    }
  }
}
