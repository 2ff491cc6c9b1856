import { isSameFile, pickedOf } from '../../../core/content/files'
import type { FileEntry, VolumeManifest } from '../../../core/content/manifest'
import type { VolumeOperation } from '../../../core/cluster/operations'
import { VesselError } from '../../../core/errors'
import { entriesOf, tarOf } from '../../look/cluster'
import type { OpenPoint } from '../../points/open'
import type { ClusterClient, KubeObject } from '../../sources/kubernetes/client'
import { resourcePath } from '../../sources/kubernetes/client'
import { emptyVolume, fillVolume, lookAtVolume } from '../../sources/kubernetes/fill'
import { fingerprintOf } from '../../sources/kubernetes/taken-files'
import type { Temporary } from '../../sources/kubernetes/temporary'
import { readerPod } from '../../sources/kubernetes/volumes'

type Count = (counter: string, by: number) => void

/** What a volume holds after it was filled, against what it should hold. */
export interface Filled {
  files: number
  wanted: string
  found: string
  equal: boolean
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

  async fill(operation: VolumeOperation, then: VolumeManifest, count: Count): Promise<Filled> {
    const { target: path, only, verb, namespace, claim } = operation
    const all = await entriesOf(this.point.store, then)
    const entries = only ? pickedOf(all, only) : all
    if (entries.length === 0)
      throw new VesselError('not_in_point', {
        what: `Nothing of what is picked of ${operation.path} is in it at this instant.`,
        touched: 'The volume was not changed.',
        next: 'Pick files or folders that are in it.',
      })
    const claims = this.temporary.resource('PersistentVolumeClaim')
    const standing = await this.client.ask<KubeObject>(resourcePath(claims, namespace, claim), { signal: this.signal })
    const target = await readerPod(this.client, this.temporary, { path, claim: standing }, claim, true)
    try {
      if (verb === 'replace' && !only) await emptyVolume(this.client, target, path, this.signal)
      const archive = tarOf(this.point.store, entries, (files, bytes) => {
        count('files', files)
        count('bytes', bytes)
      })
      await fillVolume(this.client, target, path, archive, this.signal)
      const partly = only !== null || verb === 'merge'
      // Without the time at which it was changed, nothing is taken for what it was but by its checksum.
      const wanted = entries.map(({ changed: _, ...entry }) => entry)
      const own = partly ? new Set(entries.map((entry) => entry.path)) : undefined
      let checked = 0
      const found = await lookAtVolume(this.client, target, path, this.signal, wanted, own, () => {
        checked++
        count('files checked', 1)
      })
      const filled = compare(entries, found.entries, partly)
      // What had to be read whole to be compared was not told of one by one.
      count('files checked', filled.files - checked)
      return filled
    } finally {
      await this.temporary.remove(this.temporary.resource('Pod'), namespace, target.pod)
    }
  }
}

/** @param partly whether there may be more than what was wanted */
function compare(wanted: FileEntry[], found: FileEntry[], partly: boolean): Filled {
  const now = new Map(found.map((entry) => [entry.path, entry]))
  const own = new Set(wanted.map(({ path }) => path))
  const differing = wanted.flatMap((entry) => {
    const there = now.get(entry.path)
    if (!there) return [{ what: entry.path || '.', why: 'It is not there.' }]
    return isSameFile(entry, there) ? [] : [{ what: entry.path || '.', why: whyDifferent(entry, there) }]
  })
  const more = partly
    ? []
    : found.filter(({ path }) => !own.has(path)).map(({ path }) => ({ what: path, why: 'It is there, and was not then.' }))
  const compared = partly ? found.filter(({ path }) => own.has(path)) : found
  return {
    files: wanted.filter(({ type }) => type === 'file').length,
    wanted: fingerprintOf(wanted),
    found: fingerprintOf(compared),
    equal: differing.length + more.length === 0,
    differing: [...differing, ...more],
  }
}

function whyDifferent(then: FileEntry, now: FileEntry): string {
  if (then.type !== now.type) return `It was a ${then.type} and is a ${now.type}.`
  if (then.digest !== now.digest) return 'Its content is another one.'
  if (then.mode !== now.mode) return `Its mode was ${then.mode.toString(8)} and is ${now.mode.toString(8)}.`
  return 'Its target is another one.'
}
