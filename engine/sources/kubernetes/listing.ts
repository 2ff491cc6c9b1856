import { isUtf8 } from 'node:buffer'
import { PassThrough, Writable, type Readable } from 'node:stream'
import { mustBeRead, settled, withContentOf, type Listed } from '../../../core/content/files'
import type { FileEntry } from '../../../core/content/manifest'
import { safePath } from '../../../core/content/tree-path'
import type { Sink } from '../../store/writer'
import type { ClusterClient } from './client'
import { execute, type ExecTarget } from './exec'

/** Where a reader pod has its volume. */
export const MOUNT = '/volume'

/** What is in a volume, by its name as the container has it: names need not be text. */
export interface Listing {
  /** The container's clock, in seconds since 1970. */
  now: number
  all: (Listed & { raw: Buffer })[]
}

const FIELDS = ['%y', '%s', '%T@', '%C@', '%n', '%m', '%U', '%G', '%P'].join('\\t')

/** Lists a volume without reading a file; null where the container has no utility for that. */
export async function listVolume(client: ClusterClient, target: ExecTarget, root: string, signal: AbortSignal): Promise<Listing | null> {
  const listing: Listing = { now: 0, all: [] }
  const records = new Records((record) => {
    if (listing.now === 0) listing.now = Number(record.toString())
    else listing.all.push(listedOf(record))
  })
  // The slash follows the mount itself where that is a link.
  const script = `date +%s | tr '\\n' '\\0' && exec find "$0" -xdev -printf '${FIELDS}\\0'`
  const { code } = await execute(client, target, ['sh', '-c', script, `${root}/`], records, signal)
  // What find can't look into, tar can't either, and says so.
  return (code === 0 || code === 1) && listing.all.length > 0 ? listing : null
}

function listedOf(record: Buffer): Listing['all'][number] {
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
  return {
    path: safePath(raw.toString()) ?? '',
    raw,
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

/** What need not be read again, and the names of all else. */
export interface Sorted {
  kept: FileEntry[]
  /** How many of those were told by their checksum. */
  compared: number
  others: Buffer[]
}

/** A folder in a container. */
export interface Place {
  client: ClusterClient
  target: ExecTarget
  root: string
  /** Is told of each file whose checksum was taken there. */
  compared?: (() => void) | undefined
}

/** Tells what of a volume did not change since it was read last: by size and times, and by checksum where times may lie. */
export async function sortOut(place: Place, listing: Listing, earlier: FileEntry[], writer: Sink, signal: AbortSignal): Promise<Sorted> {
  const before = new Map(earlier.map((entry) => [entry.path, entry]))
  const sorted: Sorted = { kept: [], compared: 0, others: [] }
  const chunks = [...before.values()].flatMap((entry) => entry.chunks ?? [])
  // Chunks can have been found damaged since, and are made anew then.
  const known = await writer.known(chunks)
  const asked: Listing['all'] = []
  for (const one of listing.all) {
    // A name that is no text may look like another one's.
    const then = isUtf8(one.raw) ? before.get(one.path) : undefined
    const isThere = then?.chunks?.every((name) => known.has(name)) !== false
    const must = isThere ? mustBeRead(one, then) : 'yes'
    if (must === 'no') sorted.kept.push(withContentOf(then!, one, one.changed))
    else if (must === 'compare') asked.push(one)
    else sorted.others.push(one.raw)
  }
  const digests = await digestsOf(place, asked, signal)
  for (const one of asked) {
    const then = before.get(one.path)!
    if (digests.get(one.path) !== then.digest) {
      sorted.others.push(one.raw)
      continue
    }
    sorted.kept.push(withContentOf(then, one, settled(one.changed, listing.now)))
    sorted.compared++
  }
  sorted.others.sort(Buffer.compare)
  return sorted
}

/** Checksums that a container takes itself, so that nothing travels; none where it has no utility for that. */
export async function digestsOf(
  { client, target, root, compared }: Place,
  files: { raw: Buffer }[],
  signal: AbortSignal,
): Promise<Map<string, string>> {
  const digests = new Map<string, string>()
  if (files.length === 0) return digests
  const records = new Records((record) => {
    // BLAKE2b-512 in hexadecimal, a blank, a blank or a star, the name.
    const path = safePath(record.toString('utf8', 130))
    if (path !== null) digests.set(path, record.toString('latin1', 0, 128))
    compared?.()
  })
  const command = ['sh', '-c', 'cd "$0" && exec xargs -0 b2sum --zero --', `${root}/`]
  await execute(client, target, command, records, signal, namesIn(files.map(({ raw }) => raw)))
  return digests
}

/** Names for utilities that take them from their input, from the volume's root. */
export function namesIn(names: Buffer[]): Readable {
  const out = new PassThrough()
  out.end(Buffer.concat(names.flatMap((name) => [Buffer.from('./'), name, Buffer.of(0)])))
  return out
}
