import { isUtf8 } from 'node:buffer'
import { Readable, Writable } from 'node:stream'
import { mustBeRead, settled, withContentOf, type Listed } from '../../../core/content/files'
import type { FileEntry } from '../../../core/content/manifest'
import { paired } from '../../../core/content/paired'
import { safePath } from '../../../core/content/tree-path'
import { Sorting } from '../../pool/sorting'
import type { Sink } from '../../store/writer'
import type { ClusterClient } from './client'
import { execute, type ExecTarget } from './exec'

/** Where a reader pod has its volume. */
export const MOUNT = '/volume'

/** Something in a volume; `raw` is its name in base64 where that is not its path, because names need not be text. */
export interface ListedFile extends Listed {
  raw?: string
}

/** What is in a volume, in the order of the paths. */
export interface Listing {
  /** The container's clock, in seconds since 1970. */
  now: number
  all: Sorting<ListedFile>
  /** How many of them are files, and their bytes. */
  files: number
  bytes: number
}

const FIELDS = ['%y', '%s', '%T@', '%C@', '%n', '%m', '%U', '%G', '%P'].join('\\t')

/** Lists a volume without reading a file; null where the container has no utility for that. */
export async function listVolume(client: ClusterClient, target: ExecTarget, root: string, signal: AbortSignal): Promise<Listing | null> {
  const listing: Listing = { now: 0, all: new Sorting<ListedFile>(pathOf), files: 0, bytes: 0 }
  const records = new Records((record) => {
    if (listing.now === 0) listing.now = Number(record.toString())
    else take(listing, listedOf(record))
  })
  // The slash follows the mount itself where that is a link.
  const script = `date +%s | tr '\\n' '\\0' && exec find "$0" -xdev -printf '${FIELDS}\\0'`
  const { code } = await execute(client, target, ['sh', '-c', script, `${root}/`], records, signal)
  // What find can't look into, tar can't either, and says so.
  if ((code === 0 || code === 1) && listing.all.count > 0) return listing
  listing.all.close()
  return null
}

function take(listing: Listing, file: ListedFile): void {
  listing.all.add(file)
  if (file.type !== 'f') return
  listing.files++
  listing.bytes += file.size
}

function listedOf(record: Buffer): ListedFile {
  // No field but the name can hold a tab.
  let from = 0
  const next = () => {
    const end = record.indexOf(9, from)
    const field = record.toString('latin1', from, end)
    from = end + 1
    return field
  }
  const [type, size, mtime, changed, links, mode, uid, gid] = [next(), next(), next(), next(), next(), next(), next(), next()]
  const raw = record.subarray(from)
  const path = safePath(raw.toString()) ?? ''
  return {
    path,
    ...(raw.equals(Buffer.from(path)) ? {} : { raw: raw.toString('base64') }),
    type,
    size: Number(size),
    mtime: Math.round(Number(mtime) * 1000),
    changed,
    links: Number(links),
    mode: Number.parseInt(mode, 8),
    uid: Number(uid),
    gid: Number(gid),
  }
}

/** Takes apart what ends in zero bytes. */
class Records extends Writable {
  private rest: Buffer = Buffer.alloc(0)

  constructor(private readonly take: (record: Buffer) => void) {
    super({ highWaterMark: 1024 * 1024 })
  }

  override _write(part: Buffer, _: BufferEncoding, done: () => void): void {
    let from = 0
    for (let end = part.indexOf(0); end >= 0; end = part.indexOf(0, from)) {
      // A copy: what came is only a view of a larger buffer.
      this.take(Buffer.concat([this.rest, part.subarray(from, end)]))
      this.rest = Buffer.alloc(0)
      from = end + 1
    }
    this.rest = Buffer.concat([this.rest, part.subarray(from)])
    done()
  }
}

/** What need not be read again, and what has to be; each in the order of the paths. */
export interface Sorted {
  kept: Sorting<FileEntry>
  /** How many of those were told by their checksum. */
  compared: number
  others: Sorting<ListedFile>
}

/** A folder in a container. */
export interface Place {
  client: ClusterClient
  target: ExecTarget
  root: string
  /** Is told of each file whose checksum was taken there. */
  compared?: (() => void) | undefined
}

/** A file that may be as it was. */
interface Asked {
  path: string
  now: ListedFile
  before: FileEntry
}

/** What is asked of the store together. */
const TOGETHER = 1000

/**
 * Tells what of a volume did not change since it was read last: by size and times, and by checksum where times may lie.
 *
 * @param earlier what it held then, in the order of the paths
 */
export async function sortOut(
  place: Place,
  { now, all }: Listing,
  earlier: AsyncIterable<FileEntry> | Iterable<FileEntry>,
  writer: Sink,
  signal: AbortSignal,
): Promise<Sorted> {
  const sorted: Sorted = { kept: new Sorting<FileEntry>(pathOf), compared: 0, others: new Sorting<ListedFile>(pathOf) }
  const asked = new Sorting<Asked>(pathOf)
  for await (const pairs of batches(paired(all, earlier))) {
    // Chunks can have been found damaged since, and are made anew then.
    const known = await writer.known(pairs.flatMap(([, before]) => before?.chunks ?? []))
    for (const [entry, earlier] of pairs) {
      const isThere = earlier?.chunks?.every((name) => known.has(name)) !== false
      const must = isThere && earlier && isText(entry) ? mustBeRead(entry, earlier) : 'yes'
      if (must === 'no') sorted.kept.add(withContentOf(earlier!, entry, entry.changed))
      else if (must === 'compare') asked.add({ path: entry.path, now: entry, before: earlier! })
      else sorted.others.add(entry)
    }
  }
  await askFor(place, asked, sorted, now, signal)
  asked.close()
  return sorted
}

const pathOf = ({ path }: { path: string }) => path

/** A name that is no text may look like another one's. */
const isText = ({ raw }: ListedFile) => raw === undefined || isUtf8(Buffer.from(raw, 'base64'))

/** What is there now, with what was then, some at a time. */
async function* batches(pairs: AsyncGenerator<[ListedFile | null, FileEntry | null]>): AsyncGenerator<[ListedFile, FileEntry | null][]> {
  let batch: [ListedFile, FileEntry | null][] = []
  for await (const [entry, before] of pairs) {
    if (entry) batch.push([entry, before])
    if (batch.length < TOGETHER) continue
    yield batch
    batch = []
  }
  yield batch
}

async function askFor(place: Place, asked: Sorting<Asked>, sorted: Sorted, now: number, signal: AbortSignal): Promise<void> {
  if (asked.count === 0) return
  const digests = new Sorting<{ path: string; digest: string }>(pathOf)
  try {
    await takeDigests(place, asked, digests, signal)
    for await (const [asking, found] of paired(asked, digests)) {
      if (!asking) continue
      if (found?.digest !== asking.before.digest) {
        sorted.others.add(asking.now)
        continue
      }
      sorted.kept.add(withContentOf(asking.before, asking.now, settled(asking.now.changed, now)))
      sorted.compared++
    }
  } finally {
    digests.close()
  }
}

/** Checksums that a container takes itself, so that nothing travels; none where it has no utility for that. */
async function takeDigests(
  { client, target, root, compared }: Place,
  asked: Iterable<Asked>,
  digests: Sorting<{ path: string; digest: string }>,
  signal: AbortSignal,
): Promise<void> {
  const records = new Records((record) => {
    // BLAKE2b-512 in hexadecimal, a blank, a blank or a star, the name.
    const path = safePath(record.toString('utf8', 130))
    if (path !== null) digests.add({ path, digest: record.toString('latin1', 0, 128) })
    compared?.()
  })
  const command = ['sh', '-c', 'cd "$0" && exec xargs -0 b2sum --zero --', `${root}/`]
  const files = function* () {
    for (const { now } of asked) yield now
  }
  await execute(client, target, command, records, signal, namesIn(files()))
}

/** Names for utilities that take them from their input, from the volume's root. */
export function namesIn(files: Iterable<ListedFile>): Readable {
  function* parts() {
    let names: Buffer[] = []
    for (const { path, raw } of files) {
      names.push(Buffer.from('./'), raw === undefined ? Buffer.from(path) : Buffer.from(raw, 'base64'), Buffer.of(0))
      if (names.length < 3 * TOGETHER) continue
      yield Buffer.concat(names)
      names = []
    }
    yield Buffer.concat(names)
  }
  return Readable.from(parts(), { objectMode: false })
}
