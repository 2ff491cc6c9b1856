import { Writable, type Readable } from 'node:stream'
import { finished } from 'node:stream/promises'
import { extract } from 'tar-stream'
import type { FileEntry, Missing } from '../../../core/content/manifest'
import { VesselError } from '../../../core/errors'
import type { Sink } from '../../store/writer'
import type { ClusterClient } from './client'
import { execute, type ExecTarget } from './exec'
import { isRefusal, listVolume, MOUNT, namesIn, sortOut, type Listing, type Sorted } from './listing'
import { TakenFiles, type Moved, type VolumeContent } from './taken-files'

/** A volume that is to be read, where from, and where to. */
export interface VolumeReading {
  client: ClusterClient
  /** A pod that has it. */
  target: ExecTarget
  path: string
  writer: Sink
  signal: AbortSignal
  moved: Moved
  /** What it held when it was read last; what did not change since is not read again. */
  earlier?: FileEntry[] | undefined
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
  const { client, target, writer, signal, earlier } = reading
  const listing = await listVolume(client, target, signal)
  const sorted = listing && (await sortOut(client, target, listing, earlier ?? [], writer, signal))
  try {
    return await readListed(reading, listing, sorted)
  } catch (error) {
    if (!isRefusal(error)) throw error
    return readListed(reading, listing, null)
  }
}

/** @param sorted what is to be read and what is not; null to read everything */
async function readListed(reading: VolumeReading, listing: Listing | null, sorted: Sorted | null): Promise<ReadVolume> {
  const { path, writer, moved } = reading
  const listed = new Map((listing?.all ?? []).map((one) => [one.path, one]))
  const taking = new TakenFiles(path, writer, moved, listed, listing?.now ?? 0)
  const told = await streamTar(reading, taking, sorted && namesIn(sorted.others))
  for (const entry of sorted?.kept ?? []) taking.keepAsItWas(entry)
  const content = await taking.content(told)
  return { ...content, unread: sorted?.kept.length ?? 0, compared: sorted?.compared ?? 0 }
}

const TAR = ['tar', '--create', '--file=-', '--format=gnu', '--numeric-owner', '--one-file-system', `--directory=${MOUNT}`]

/** @param names of what is wanted; null for everything */
async function streamTar(reading: VolumeReading, taking: TakenFiles, names: Readable | null): Promise<Missing[]> {
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
  const command = names ? [...TAR, '--no-recursion', '--null', '--files-from=-'] : [...TAR, '--sort=name', '.']
  const { code, errors, message } = await execute(client, target, command, out, signal, names)
  if (code === null) throw failed(path, message)
  out.end()
  await finished(out)
  tar.end()
  await ended.catch((error: unknown) => {
    throw failed(path, `the archive is not whole (${(error as Error).message}); ${errors.trim()}`)
  })
  const { told, fatal } = complaintsOf(errors, path)
  // 1 is said when files were changed while they were read, 2 when some could not be.
  if (code > 2 || (code === 2 && told.length === 0)) throw failed(path, fatal || `tar ended with ${code}`)
  return told
}

const failed = (path: string, why: string) =>
  new VesselError('volume_read', {
    what: `${path} could not be read: ${why.split('\n')[0]}`,
    touched: 'Nothing was changed. What was read of it is not kept.',
    next: 'See whether the reader pod could mount it, then run it again.',
  })

const COMPLAINT =
  /^tar: (?:\.\/)?(.+): (file changed as we read it|File removed before we read it|Cannot open: .+|Cannot stat: .+|Read error.+|socket ignored)$/

/** What tar says of single files, as missing things; the rest is why it failed. */
function complaintsOf(errors: string, path: string): { told: Missing[]; fatal: string } {
  const told: Missing[] = []
  const rest: string[] = []
  for (const line of errors.split('\n').filter(Boolean)) {
    const [, file, what] = COMPLAINT.exec(line) ?? []
    if (what === undefined) rest.push(line)
    else told.push({ path: `${path}/${file}`, ...reasonOf(what) })
  }
  return { told, fatal: rest.filter((line) => !/Exiting with failure status/.test(line)).join('\n') }
}

function reasonOf(what: string): Pick<Missing, 'reason' | 'note'> {
  if (what.includes('changed')) return { reason: 'It was changed while it was read, so it may be torn.' }
  if (what === 'socket ignored') return { reason: 'It is a socket, which holds nothing that could be kept.', note: true }
  if (/removed|stat: No such file/.test(what)) return { reason: 'It went away while the volume was read.', note: true }
  return { reason: `It could not be read: ${what.replace(/^Cannot (open|stat): /, '')}.` }
}
