import { Writable, type Readable } from 'node:stream'
import { finished } from 'node:stream/promises'
import { extract } from 'tar-stream'
import type { FileEntry, Missing, VolumeManifest } from '../../../core/content/manifest'
import { paired } from '../../../core/content/paired'
import { VesselError } from '../../../core/errors'
import { Sorting } from '../../pool/sorting'
import { writeList } from '../../store/json'
import type { Sink } from '../../store/writer'
import type { ClusterClient } from './client'
import { execute, type ExecTarget } from './exec'
import { listVolume, MOUNT, namesIn, sortOut, type ListedFile, type Listing, type Sorted } from './listing'
import { TakenFiles, type Moved, type VolumeContent } from './taken-files'

/** A volume that is to be read, where from, and where to. */
export interface VolumeReading {
  client: ClusterClient
  /** A pod that has it. */
  target: ExecTarget
  path: string
  /** The folder of it that is read; empty for all of it. */
  folder?: string
  writer: Sink
  signal: AbortSignal
  moved: Moved
  /** Is told what there is to read, where that could be listed beforehand. */
  expected?: (files: number, bytes: number) => void
  /** Whether only what is in `earlier` is asked for. Where it can't be listed, all of it is read nevertheless. */
  onlyEarlier?: boolean | undefined
  /** What it held when it was read last, in the order of the paths; what did not change since is not read again. */
  earlier?: (() => AsyncIterable<FileEntry>) | undefined
  /** Is told of each file whose checksum the container took itself. */
  compared?: (() => void) | undefined
}

/** What was read, and how much of it was not because it had not changed; some of that by its checksum. */
export interface ReadVolume extends VolumeContent {
  unread: number
  compared: number
}

/**
 * Reads a volume as a stream of tar out of a pod that has it, and puts every file into the store in content-defined
 * chunks. Files that could not be read, or were changed while they were, are listed.
 */
export async function readVolume(reading: VolumeReading): Promise<ReadVolume> {
  const { client, target, writer, signal, earlier, compared } = reading
  const root = await rootOf(reading)
  const listing = await listVolume(client, target, root, signal)
  if (!listing) return readListed(reading, root, null, null)
  try {
    if (reading.onlyEarlier && earlier) listing.all = await thoseIn(listing.all, earlier())
    else reading.expected?.(listing.files, listing.bytes)
    const sorted = await sortOut({ client, target, root, compared }, listing, earlier?.() ?? [], writer, signal)
    try {
      return await readListed(reading, root, listing, sorted)
    } finally {
      sorted.kept.close()
      sorted.others.close()
    }
  } finally {
    listing.all.close()
  }
}

/** What is listed of some paths; the rest is let go of. */
async function thoseIn(all: Listing['all'], wanted: AsyncIterable<FileEntry>): Promise<Listing['all']> {
  const those = new Sorting<ListedFile>(({ path }) => path)
  for await (const [found, asked] of paired(all, wanted)) if (found && asked) those.add(found)
  all.close()
  return those
}

/** What a manifest says of a volume's content, whose list of files goes into the store. */
export async function contentOf(
  { entries, files, bytes, fingerprint }: ReadVolume,
  writer: Sink,
): Promise<Pick<VolumeManifest, 'files' | 'bytes' | 'fingerprint' | 'entries'>> {
  try {
    return { files, bytes, fingerprint, entries: await writeList(writer, entries, ({ path }) => path) }
  } finally {
    entries.close()
  }
}

/** Where reading begins; a folder must be in the volume itself, and not only lead out of it. */
async function rootOf({ client, target, path, folder = '', signal }: VolumeReading): Promise<string> {
  if (folder === '') return MOUNT
  const root = `${MOUNT}/${folder}`
  const isWithin = 'top=$(cd -P "$0" && pwd -P) && here=$(cd -P "$1" && pwd -P) && case "$here/" in "$top"/*) ;; *) exit 1 ;; esac'
  const { code } = await execute(
    client,
    target,
    ['sh', '-c', isWithin, `${MOUNT}/`, root],
    new Writable({ write: (_, __, done) => done() }),
    signal,
  )
  if (code !== 0) throw noFolder(path, `There is no folder ${folder} in it.`)
  return root
}

/** @param sorted what is to be read and what is not; null to read everything */
async function readListed(reading: VolumeReading, root: string, listing: Listing | null, sorted: Sorted | null): Promise<ReadVolume> {
  const { path, writer, moved } = reading
  const taking = new TakenFiles(path, writer, moved, sorted?.others ?? [], listing?.now ?? 0)
  const unread = await streamTar(reading, root, taking, sorted && namesIn(sorted.others))
  for (const entry of sorted?.kept ?? []) taking.keepAsItWas(entry)
  const content = await taking.content(unread)
  return { ...content, unread: sorted?.kept.count ?? 0, compared: sorted?.compared ?? 0 }
}

const TAR = ['tar', '--create', '--file=-', '--format=gnu', '--numeric-owner', '--one-file-system']

/** @param names of what is wanted; null for everything */
async function streamTar(reading: VolumeReading, root: string, taking: TakenFiles, names: Readable | null): Promise<Missing[]> {
  const { client, target, path, signal } = reading
  const tar = extract()
  tar.on('entry', (header, stream, next) => {
    taking.take(header, stream).then(() => next(), next)
  })
  const ended = finished(tar)
  ended.catch(() => undefined)
  // The client library ends nothing when the command has ended, so that is done here.
  const out = new Writable({
    highWaterMark: 1024 * 1024,
    write: (part: Buffer, _, done) => void (tar.write(part) ? done() : tar.once('drain', () => done())),
  })
  tar.once('error', (error) => out.destroy(error))
  const from = [...TAR, `--directory=${root}`]
  const command = names ? [...from, '--no-recursion', '--null', '--files-from=-'] : [...from, '--sort=name', '.']
  const { code, errors, message } = await execute(client, target, command, out, signal, names)
  if (code === null) throw notReadable(path, message)
  out.end()
  await finished(out)
  tar.end()
  await ended.catch((error: unknown) => {
    throw notReadable(path, `the archive is not whole (${(error as Error).message}); ${errors.trim()}`)
  })
  const { unread, fatal } = complaintsOf(errors, path)
  // 1 is said when files were changed while they were read, 2 when some could not be.
  if (code > 2 || (code === 2 && unread.length === 0)) throw notReadable(path, fatal || `tar ended with ${code}`)
  return unread
}

export const noFolder = (path: string, why: string) =>
  new VesselError('no_such_folder', {
    what: `${path} could not be read: ${why}`,
    touched: 'Nothing was changed.',
    next: 'Look at what its step returned, and rehearse.',
  })

const notReadable = (path: string, why: string) =>
  new VesselError('volume_read', {
    what: `${path} could not be read: ${why.split('\n')[0]}`,
    touched: 'Nothing was changed. What was read of it is not kept.',
    next: 'See whether the reader pod could mount it, then run it again.',
  })

const COMPLAINT =
  /^tar: (?:\.\/)?(.+): (file changed as we read it|File removed before we read it|Cannot open: .+|Cannot stat: .+|Read error.+|socket ignored)$/

/** What tar says of single files, as missing things; the rest is why it failed. */
function complaintsOf(errors: string, path: string): { unread: Missing[]; fatal: string } {
  const unread: Missing[] = []
  const rest: string[] = []
  for (const line of errors.split('\n').filter(Boolean)) {
    const [, file, what] = COMPLAINT.exec(line) ?? []
    if (what === undefined) rest.push(line)
    else unread.push({ path: `${path}/${file}`, ...reasonOf(what) })
  }
  return { unread, fatal: rest.filter((line) => !/Exiting with failure status/.test(line)).join('\n') }
}

function reasonOf(what: string): Pick<Missing, 'reason' | 'note'> {
  if (what.includes('changed')) return { reason: 'It was changed while it was read, so it may be torn.' }
  if (what === 'socket ignored') return { reason: 'It is a socket, which holds nothing that could be kept.', note: true }
  if (/removed|stat: No such file/.test(what)) return { reason: 'It went away while the volume was read.', note: true }
  return { reason: `It could not be read: ${what.replace(/^Cannot (open|stat): /, '')}.` }
}
