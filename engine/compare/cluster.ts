import { cleaned, type ClusterObject } from '../../core/cluster/clean'
import { differences, type FieldDifference } from '../../core/cluster/immutable'
import { isSameFile } from '../../core/content/files'
import type { FileEntry } from '../../core/content/manifest'
import { paired } from '../../core/content/paired'
import { errorRecord, VesselError, type ErrorRecord } from '../../core/errors'
import { fitting } from '../../core/selection/wildcards'
import { namesOf } from '../../core/things/thing'
import { clusterAccessOf } from '../catalog/sources'
import type { EngineContext } from '../context'
import { entriesOf, objectIn, volumeIn, yamlOf } from '../look/cluster'
import { volumeNow } from '../look/volume-now'
import { noRows, openPoint, type OpenPoint } from '../points/open'
import { Applier } from '../runs/clusters/apply'
import { ClusterClient } from '../sources/kubernetes/client'

/** An object then, and now or at another point. */
export interface ManifestComparison {
  path: string
  before: string
  /** Null where it is not there any more. */
  now: string | null
  fields: FieldDifference[]
}

export async function compareManifest(
  engine: EngineContext,
  point: OpenPoint,
  path: string,
  against: string | null,
): Promise<ManifestComparison> {
  const earlier = await objectIn(point, path)
  const now = against === null ? await objectNow(engine, path, earlier) : await objectAt(engine, against, path)
  return { path, before: yamlOf(earlier), now: now && yamlOf(now), fields: now ? differences(earlier, now) : [] }
}

async function objectNow(engine: EngineContext, path: string, before: ClusterObject): Promise<ClusterObject | null> {
  const access = await clusterAccessOf(engine, namesOf(path)[0]!)
  const found = await ClusterClient.with(access, (client) => new Applier(client, AbortSignal.timeout(20_000)).get(before))
  return found && cleaned(found)
}

async function objectAt(engine: EngineContext, id: string, path: string): Promise<ClusterObject | null> {
  return objectIn(await openPoint(engine, id, noRows), path).catch((error: unknown) => {
    if (error instanceof VesselError && error.code === 'not_in_point') return null
    throw error
  })
}

/** One file or folder in two points; `mark` says what it became in the second. */
export interface FileComparison {
  path: string
  type: FileEntry['type']
  mark: 'gone' | 'new' | 'changed' | 'same'
  before: { size: number; mtime: number } | null
  now: { size: number; mtime: number } | null
}

export interface VolumeComparison {
  path: string
  /** The other point; its id is null where it is the volume itself, now. */
  against: { id: string | null; at: Date }
  files: FileComparison[]
  counts: Record<FileComparison['mark'], number>
  /** Whether there are more than are told. */
  more: boolean
  /** Why the volume could not be looked at; nothing is compared then. */
  trouble: ErrorRecord | null
}

const MOST_FILES = 2000

/** The files of a volume then, and now or in another point; what is the same comes last. */
export async function compareVolume(
  engine: EngineContext,
  point: OpenPoint,
  path: string,
  against: string | null,
): Promise<VolumeComparison> {
  const earlier = () => entriesOf(point.store, volumeIn(point, path))
  // What is not in the store is refused before anything is looked at.
  const entries = earlier()
  const { now, close, ...other } = against === null ? await filesNow(engine, path, earlier) : await filesAt(engine, against, path)
  try {
    return { path, ...other, ...(await compareEntries(entries, now)) }
  } finally {
    close()
  }
}

interface Other extends Pick<VolumeComparison, 'against' | 'trouble'> {
  now: Iterable<FileEntry> | AsyncIterable<FileEntry>
  close: () => void
}

const nothingToClose = () => undefined

async function filesAt(engine: EngineContext, id: string, path: string): Promise<Other> {
  const other = await openPoint(engine, id, noRows)
  return { against: { id, at: other.at }, now: entriesOf(other.store, volumeIn(other, path)), trouble: null, close: nothingToClose }
}

/** Files can be picked also where nobody can say what is there now. */
async function filesNow(engine: EngineContext, path: string, before: () => AsyncIterable<FileEntry>): Promise<Other> {
  const against = { id: null, at: engine.clock.now() }
  try {
    const now = await volumeNow(engine, path, before)
    return { against, now: now ?? [], trouble: null, close: () => now?.close() }
  } catch (error) {
    return { against, now: before(), trouble: errorRecord(error), close: nothingToClose }
  }
}

/** Files side by side; of each mark the first ones are told, those that differ before those that are the same. */
async function compareEntries(
  earlier: AsyncIterable<FileEntry>,
  now: Other['now'],
): Promise<Pick<VolumeComparison, 'files' | 'counts' | 'more'>> {
  const byMark: Record<FileComparison['mark'], FileComparison[]> = { gone: [], changed: [], new: [], same: [] }
  const counts = { gone: 0, new: 0, changed: 0, same: 0 }
  const side = (entry: FileEntry | null) => (entry ? { size: entry.size, mtime: entry.mtime } : null)
  for await (const pair of paired(earlier, now)) {
    const [a, b] = pair.map((entry) => (entry?.type === 'folder' ? null : entry)) as [FileEntry | null, FileEntry | null]
    if (!a && !b) continue
    const mark = !b ? 'gone' : !a ? 'new' : isSameFile(a, b) ? 'same' : 'changed'
    counts[mark]++
    if (byMark[mark].length < MOST_FILES)
      byMark[mark].push({ path: (a ?? b)!.path, type: (a ?? b)!.type, mark, before: side(a), now: side(b) })
  }
  const files = [...byMark.gone, ...byMark.changed, ...byMark.new, ...byMark.same].slice(0, MOST_FILES)
  return { files, counts, more: counts.gone + counts.new + counts.changed + counts.same > files.length }
}

/** Points of a vessel, newest first, in which a volume holds a file whose name fits. */
export interface FileSighting {
  point: string
  at: Date
  volume: string
  file: string
  size: number
  mtime: number
  digest: string | null
}

const MOST_SIGHTINGS = 500

/** Looks for files by name, with `*` for any characters, through the newest points of a vessel. */
export async function findFiles(engine: EngineContext, vesselId: string, name: string, points: number): Promise<FileSighting[]> {
  const like = fitting(name.toLowerCase())
  const rows = await engine.db
    .selectFrom('point')
    .select(['id', 'at'])
    .where('vessel_id', '=', vesselId)
    .where('kept_for', 'is', null)
    .orderBy('at', 'desc')
    .limit(points)
    .execute()
  const sightings: FileSighting[] = []
  for (const { id, at } of rows) {
    if (sightings.length >= MOST_SIGHTINGS) break
    const point = await openPoint(engine, id, noRows)
    for (const { manifest } of point.members)
      for (const volume of (manifest.namespaces ?? []).flatMap(({ volumes }) => volumes).filter(({ onlyAt }) => onlyAt === undefined))
        for await (const { path, type, size, mtime, digest } of entriesOf(point.store, volume))
          if (type === 'file' && like(path.slice(path.lastIndexOf('/') + 1).toLowerCase()) && sightings.length < MOST_SIGHTINGS)
            sightings.push({ point: id, at, volume: volume.path, file: path, size, mtime, digest: digest ?? null })
  }
  return sightings
}
