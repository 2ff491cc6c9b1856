import { createHash } from 'node:crypto'
import type { Readable } from 'node:stream'
import type { Headers } from 'tar-stream'
import { ByteChunker, FILE_CHUNK } from '../../../core/content/bytes'
import { settled, traitsOf, type Listed } from '../../../core/content/files'
import type { FileEntry, Missing } from '../../../core/content/manifest'
import { safePath } from '../../../core/content/tree-path'
import { digesting } from '../../pool/digest'
import { Sorting } from '../../pool/sorting'
import { copyInto, pieceMemory, type Bounds, type PieceMemory } from '../../pool/pieces'
import type { Sink } from '../../store/writer'
import type { Progress } from '../source'

export interface VolumeContent {
  /** In the order of the paths; whoever has them lets go of them. */
  entries: Sorting<FileEntry>
  /** How many of them are files, and their bytes. */
  files: number
  bytes: number
  fingerprint: string
  missing: Missing[]
}

/** Tells of files, their bytes, and those of them that the store did not have. */
export type Moved = (files: number, bytes: number, stored: number) => void

/** Counts them as a step of a run does, and what is expected as the run does; figures for a volume that is to be read. */
export const countedBy = (progress: Pick<Progress, 'expect'>, count: (counter: string, by: number) => void) => ({
  moved: ((files, bytes, stored) => {
    count('files', files)
    count('bytes', bytes)
    count('stored', stored)
  }) satisfies Moved,
  expected: (files: number, bytes: number) => {
    progress.expect('files', files)
    progress.expect('bytes', bytes)
  },
})

/** Small files go into the store together; so many batches may be on their way while more is read. */
const BATCH = { bytes: 4 * 1024 * 1024, files: 256, ahead: 4 } as const

const TYPES: Record<string, FileEntry['type']> = {
  file: 'file',
  'contiguous-file': 'file',
  directory: 'folder',
  symlink: 'link',
  link: 'hard-link',
  fifo: 'pipe',
  'character-device': 'device',
  'block-device': 'device',
}

/** A file of several chunks that is on its way, and how many of them, with its own end, are still to come. */
interface Open {
  entry: FileEntry
  chunks: string[]
  missing: number
}

/** Small files, back to back. */
const emptyBatch = (memory: PieceMemory) => ({ memory, length: 0, bounds: [] as Bounds, entries: [] as FileEntry[] })
const newMemory = () => pieceMemory(BATCH.bytes, BATCH.files)

const isSmall = ({ size }: FileEntry) => size > 0 && size < FILE_CHUNK.min

const skip = (stream: Readable) => new Promise<void>((resolve, reject) => stream.on('end', resolve).on('error', reject).resume())

/** The files of one volume, as they come. */
export class TakenFiles {
  private readonly entries = new Sorting<FileEntry>(({ path }) => path)
  private files = 0
  private readonly missing: Missing[] = []
  private bytes = 0
  /** One for all files, which come one after the other; it is empty again after each. */
  private readonly chunker = new ByteChunker()
  private readonly listed: Iterator<Listed>
  private seen: IteratorResult<Listed>
  private putting: Promise<unknown>[] = []
  private batch = emptyBatch(newMemory())
  /** Memory of batches that were put. */
  private readonly spare: PieceMemory[] = []

  constructor(
    private readonly path: string,
    private readonly writer: Sink,
    private readonly moved: Moved,
    /** What was seen of them before they were read, in the order in which they come: that of their paths. */
    listed: Iterable<Listed>,
    /** The container's clock when that was, in seconds since 1970. */
    private readonly listedAt: number,
  ) {
    this.listed = listed[Symbol.iterator]()
    this.seen = this.listed.next()
  }

  /** A file that was not read, with what is known of it. */
  keepAsItWas(entry: FileEntry): void {
    this.has(entry)
    this.bytes += entry.size
    this.moved(entry.type === 'file' ? 1 : 0, entry.size, 0)
  }

  /** It is known whole. */
  private has(entry: FileEntry): void {
    this.entries.add(entry)
    if (entry.type === 'file') this.files++
  }

  /** What was seen of a file before it was read. */
  private seenOf(path: string): Listed | undefined {
    while (!this.seen.done && this.seen.value.path < path) this.seen = this.listed.next()
    return !this.seen.done && this.seen.value.path === path ? this.seen.value : undefined
  }

  async take(header: Headers, stream: Readable): Promise<void> {
    const path = safePath(header.name)
    const type = TYPES[header.type ?? 'file']
    if (path === null || type === undefined) {
      this.missing.push({
        path: `${this.path}/${header.name}`,
        reason: path === null ? 'Its path leads out of the volume.' : `It is a ${header.type}, which can’t be kept.`,
      })
      return skip(stream)
    }
    const entry = this.entryOf(path, type, header)
    if (type === 'file' && isSmall(entry)) await this.keepSmall(entry, stream)
    else if (type === 'file') await this.keep(entry, stream)
    else {
      await skip(stream)
      this.has(entry)
    }
    if (type === 'file') this.moved(1, 0, 0)
  }

  private entryOf(path: string, type: FileEntry['type'], { mode = 0, uid = 0, gid = 0, mtime, size = 0, linkname }: Headers): FileEntry {
    const time = mtime?.getTime() ?? 0
    const entry: FileEntry = { path, type, mode, uid, gid, mtime: time, size: type === 'file' ? size : 0 }
    if (type === 'link' || type === 'hard-link') entry.target = type === 'link' ? (linkname ?? '') : (safePath(linkname ?? '') ?? '')
    // The archive tells seconds only; if it was changed since it was listed, its finer times are not known.
    const listed = this.seenOf(path)
    const isAsListed = listed && listed.mtime >= time && listed.mtime <= time + 1000 && (type !== 'file' || listed.size === size)
    if (!isAsListed) return entry
    const changed = type === 'file' ? settled(listed.changed, this.listedAt) : undefined
    return { ...entry, mtime: listed.mtime, ...(changed === undefined ? {} : { changed }) }
  }

  /** A file that is a chunk of its own waits for others like it. */
  private async keepSmall(entry: FileEntry, stream: Readable): Promise<void> {
    if (this.batch.length + entry.size > BATCH.bytes || this.batch.entries.length >= BATCH.files) await this.putSmall()
    const { batch } = this
    const from = batch.length
    await new Promise<void>((resolve, reject) => {
      stream.on('data', (part: Buffer) => {
        copyInto(batch.memory.plain, part, batch.length)
        batch.length += part.length
      })
      stream.on('end', resolve).on('error', reject)
    })
    batch.entries.push(entry)
    batch.bounds.push([from, batch.length])
    this.bytes += batch.length - from
    this.moved(0, batch.length - from, 0)
  }

  private async putSmall(): Promise<void> {
    const { memory, bounds, entries } = this.batch
    if (entries.length === 0) return
    const putting = this.writer.putMany({ memory, bounds }).then((put) => {
      this.spare.push(memory)
      let all = 0
      for (const [i, { name, stored, digest }] of put.entries()) {
        this.has(Object.assign(entries[i]!, { chunks: [name], digest }))
        all += stored
      }
      this.moved(0, 0, all)
    })
    putting.catch(() => undefined)
    this.putting.push(putting)
    if (this.putting.length > BATCH.ahead) await this.putting.shift()
    this.batch = emptyBatch(this.spare.pop() ?? newMemory())
  }

  private async keep(entry: FileEntry, stream: Readable): Promise<void> {
    const hash = digesting()
    const { chunker } = this
    const open: Open = { entry, chunks: [], missing: 1 }
    for await (const part of stream as AsyncIterable<Buffer>) {
      hash.update(part)
      this.bytes += part.length
      this.moved(0, part.length, 0)
      for (const chunk of chunker.push(part)) await this.put(open, chunk)
    }
    const last = chunker.end()
    if (last) await this.put(open, last)
    entry.digest = hash.digest('hex')
    this.came(open)
  }

  /** Chunks are written while the next ones come; the store says when it has enough of them. */
  private async put(open: Open, bytes: Uint8Array<ArrayBuffer>): Promise<void> {
    const at = open.chunks.push('') - 1
    open.missing++
    const putting = this.writer.put(bytes).then(({ name, stored }) => {
      open.chunks[at] = name
      this.moved(0, 0, stored)
      this.came(open)
    })
    putting.catch(() => undefined)
    this.putting.push(putting)
    if (this.putting.length > 256) await this.settle()
    else await this.writer.ready()
  }

  private came(open: Open): void {
    if (--open.missing === 0) this.has({ ...open.entry, chunks: open.chunks })
  }

  private async settle(): Promise<void> {
    await this.putSmall()
    await Promise.all(this.putting.splice(0))
  }

  async content(unread: Missing[]): Promise<VolumeContent> {
    await this.settle()
    const { entries, files, bytes } = this
    return { entries, files, bytes, fingerprint: fingerprintOf(entries), missing: [...this.missing, ...unread] }
  }
}

/** SHA-256 over what a person would compare: paths, types, modes, links and contents, in the order of the paths. */
export class Fingerprint {
  private readonly hash = createHash('sha256')

  add(entry: FileEntry): void {
    this.hash.update(JSON.stringify([entry.path, ...traitsOf(entry)]))
  }

  value(): string {
    return this.hash.digest('hex')
  }
}

function fingerprintOf(entries: Iterable<FileEntry>): string {
  const fingerprint = new Fingerprint()
  for (const entry of entries) fingerprint.add(entry)
  return fingerprint.value()
}
