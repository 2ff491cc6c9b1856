import { isSameFile, pickedOf } from '../../../core/content/files'
import type { FileEntry, VolumeManifest } from '../../../core/content/manifest'
import type { VolumeOperation } from '../../../core/cluster/operations'
import { paired } from '../../../core/content/paired'
import { VesselError } from '../../../core/errors'
import { entriesOf, tarOf } from '../../look/cluster'
import type { OpenPoint } from '../../points/open'
import type { ClusterClient, KubeObject } from '../../sources/kubernetes/client'
import { resourcePath } from '../../sources/kubernetes/client'
import { emptyVolume, fillVolume, lookAtVolume } from '../../sources/kubernetes/fill'
import { Fingerprint } from '../../sources/kubernetes/taken-files'
import type { Temporary } from '../../sources/kubernetes/temporary'
import { readerPod } from '../../sources/kubernetes/volumes'

type Count = (counter: string, by: number) => void

/** What a volume holds after it was filled, against what it should hold. */
export interface Filled {
  files: number
  wanted: string
  found: string
  equal: boolean
  /** The first of what differs. */
  differing: { what: string; why: string }[]
}

/** Fills volumes of a cluster with what a point holds, and reads them back. */
export class VolumeFiller {
  constructor(
    private readonly client: ClusterClient,
    private readonly temporary: Temporary,
    private readonly point: OpenPoint,
    private readonly signal: AbortSignal,
  ) {}

  async fill(operation: VolumeOperation, before: VolumeManifest, count: Count): Promise<Filled> {
    const { target: path, only, verb, namespace, claim } = operation
    const all = () => entriesOf(this.point.store, before)
    const entries = () => (only ? pickedOf(all(), only) : all())
    if ((await entries().next()).done)
      throw new VesselError('not_in_point', {
        what: `Nothing of what is picked of ${operation.path} is in it at this moment.`,
        touched: 'The volume was not changed.',
        next: 'Pick files or folders that are in it.',
      })
    const claims = this.temporary.resource('PersistentVolumeClaim')
    const standing = await this.client.ask<KubeObject>(resourcePath(claims, namespace, claim), { signal: this.signal })
    const target = await readerPod(this.client, this.temporary, { path, claim: standing }, claim, true)
    const partly = only !== null || verb === 'merge'
    try {
      if (verb === 'replace' && !only) await emptyVolume(this.client, target, path, this.signal)
      const archive = tarOf(this.point.store, entries(), (files, bytes) => {
        count('files', files)
        count('bytes', bytes)
      })
      await fillVolume(this.client, target, path, archive, this.signal)
      let checked = 0
      const found = await lookAtVolume(
        this.client,
        target,
        path,
        this.signal,
        () => withoutChanged(entries()),
        partly,
        () => {
          checked++
          count('files checked', 1)
        },
      )
      try {
        const filled = await compare(entries(), found.entries, partly)
        // What had to be read whole to be compared was not told of one by one.
        count('files checked', filled.files - checked)
        return filled
      } finally {
        found.entries.close()
      }
    } finally {
      await this.temporary.remove(this.temporary.resource('Pod'), namespace, target.pod)
    }
  }
}

/** Without the time at which it was changed, nothing is taken for what it was but by its checksum. */
async function* withoutChanged(entries: AsyncIterable<FileEntry>): AsyncGenerator<FileEntry> {
  for await (const { changed: _, ...entry } of entries) yield entry
}

/** So many that differ are named. */
const TOLD = 1000

/** @param partly whether there may be more than what was wanted */
async function compare(wanted: AsyncIterable<FileEntry>, found: Iterable<FileEntry>, partly: boolean): Promise<Filled> {
  const [before, now] = [new Fingerprint(), new Fingerprint()]
  const differing: Filled['differing'] = []
  let [files, unequal] = [0, 0]
  for await (const [entry, there] of paired(wanted, found)) {
    if (entry) before.add(entry)
    if (entry?.type === 'file') files++
    if (there && (entry || !partly)) now.add(there)
    const why = whyDifferent(entry, there, partly)
    if (why === null) continue
    unequal++
    if (differing.length < TOLD) differing.push({ what: (entry ?? there)!.path || '.', why })
  }
  return { files, wanted: before.value(), found: now.value(), equal: unequal === 0, differing }
}

function whyDifferent(before: FileEntry | null, now: FileEntry | null, partly: boolean): string | null {
  if (!before) return partly ? null : 'It is there, and was not then.'
  if (!now) return 'It is not there.'
  if (isSameFile(before, now)) return null
  if (before.type !== now.type) return `It was a ${before.type} and is a ${now.type}.`
  if (before.digest !== now.digest) return 'Its content is another one.'
  if (before.mode !== now.mode) return `Its mode was ${before.mode.toString(8)} and is ${now.mode.toString(8)}.`
  return 'Its target is another one.'
}
