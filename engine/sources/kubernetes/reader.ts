import { createHash } from 'node:crypto'
import { Writable } from 'node:stream'
import { finished } from 'node:stream/promises'
import { extract, type Headers } from 'tar-stream'
import { ByteChunker, FILE_CHUNK } from '../../../core/content/bytes'
import { traitsOf } from '../../../core/content/files'
import type { FileEntry, Missing } from '../../../core/content/manifest'
import { safePath } from '../../../core/content/tree-path'
import { VesselError } from '../../../core/errors'
import type { Sink } from '../../store/writer'
import type { ClusterClient } from './client'
import { execute, type ExecTarget } from './exec'

/** Where a reader pod has its volume. */
export const MOUNT = '/volume'

export interface VolumeContent {
  entries: FileEntry[]
  bytes: number
  fingerprint: string
  missing: Missing[]
}

/** Small files go into the store together; so many batches may be on their way while more is read. */
const BATCH = { bytes: 4 * 1024 * 1024, files: 256, ahead: 3 } as const

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

/**
 * Reads a volume as a stream of tar out of a pod that has it, and puts every file into the store in content-defined
 * chunks. Files that could not be read, or were changed while they were, are listed.
 */
export async function readVolume(
  client: ClusterClient,
  target: ExecTarget,
  path: string,
  writer: Sink,
  signal: AbortSignal,
  moved: (files: number, bytes: number, stored: number) => void,
): Promise<VolumeContent> {
  const taking = new TakenFiles(path, writer, moved)
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
  const command = [
    'tar',
    '--create',
    '--file=-',
    '--format=pax',
    '--numeric-owner',
    '--sort=name',
    '--one-file-system',
    `--directory=${MOUNT}`,
    '.',
  ]
  const { code, errors, message } = await execute(client, target, command, out, signal)
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
  return taking.content(told)
}

const failed = (path: string, why: string) =>
  new VesselError('volume_read', {
    what: `${path} could not be read: ${why.split('\n')[0]}`,
    touched: 'Nothing was changed. What was read of it is not kept.',
    next: 'See whether the reader pod could mount it, then run it again.',
  })

/** What tar says of single files, as missing things; the rest is why it failed. */
function complaintsOf(errors: string, path: string): { told: Missing[]; fatal: string } {
  const told: Missing[] = []
  const rest: string[] = []
  for (const line of errors.split('\n').filter(Boolean)) {
    const match =
      /^tar: (?:\.\/)?(.+): (file changed as we read it|File removed before we read it|Cannot open: .+|Cannot stat: .+|Read error.+|socket ignored)$/.exec(
        line,
      )
    if (!match) rest.push(line)
    else if (/changed/.test(match[2]!))
      told.push({ path: `${path}/${match[1]}`, reason: 'It was changed while it was read, so it may be torn.' })
    else if (/removed|ignored/.test(match[2]!))
      told.push({ path: `${path}/${match[1]}`, reason: 'It went away while the volume was read.', note: true })
    else told.push({ path: `${path}/${match[1]}`, reason: `It could not be read: ${match[2]!.replace(/^Cannot (open|stat): /, '')}.` })
  }
  return { told, fatal: rest.filter((line) => !/Exiting with failure status/.test(line)).join('\n') }
}

/** The files of one volume, as they come. */
class TakenFiles {
  private readonly entries: FileEntry[] = []
  private readonly missing: Missing[] = []
  private bytes = 0
  /** One for all files, which come one after the other; it is empty again after each. */
  private readonly chunker = new ByteChunker()
  private putting: Promise<unknown>[] = []
  private small: { entry: FileEntry; bytes: Uint8Array<ArrayBuffer> }[] = []
  private smallBytes = 0

  constructor(
    private readonly path: string,
    private readonly writer: Sink,
    private readonly moved: (files: number, bytes: number, stored: number) => void,
  ) {}

  async take(header: Headers, stream: AsyncIterable<Uint8Array>): Promise<void> {
    const path = safePath(header.name)
    const type = TYPES[header.type ?? 'file']
    if (path === null || type === undefined) {
      this.missing.push({
        path: `${this.path}/${header.name}`,
        reason: path === null ? 'Its path leads out of the volume.' : `It is a ${header.type}, which can’t be kept.`,
      })
      for await (const _ of stream);
      return
    }
    const { mode = 0, uid = 0, gid = 0, mtime, linkname } = header
    const entry: FileEntry = { path, type, mode, uid, gid, mtime: mtime?.getTime() ?? 0, size: type === 'file' ? (header.size ?? 0) : 0 }
    if (type === 'link' || type === 'hard-link') entry.target = type === 'link' ? (linkname ?? '') : (safePath(linkname ?? '') ?? '')
    this.entries.push(entry)
    if (type === 'file' && entry.size > 0 && entry.size < FILE_CHUNK.min) await this.keepSmall(entry, stream)
    else if (type === 'file') await this.keep(entry, stream)
    else for await (const _ of stream);
    this.moved(1, 0, 0)
  }

  /** A file that is a chunk of its own waits for others like it. */
  private async keepSmall(entry: FileEntry, stream: AsyncIterable<Uint8Array>): Promise<void> {
    let bytes = new Uint8Array(entry.size)
    let length = 0
    for await (const part of stream) {
      bytes.set(part, length)
      length += part.length
    }
    if (length < bytes.length) bytes = bytes.slice(0, length)
    this.bytes += length
    this.moved(0, length, 0)
    this.small.push({ entry, bytes })
    this.smallBytes += length
    if (this.smallBytes >= BATCH.bytes || this.small.length >= BATCH.files) await this.putSmall()
  }

  private async putSmall(): Promise<void> {
    const batch = this.small
    if (batch.length === 0) return
    this.small = []
    this.smallBytes = 0
    const putting = this.writer.putMany(batch.map(({ bytes }) => bytes)).then((all) => {
      for (const [i, { name, stored, sha256 }] of all.entries()) {
        Object.assign(batch[i]!.entry, { chunks: [name], sha256 })
        this.moved(0, 0, stored)
      }
    })
    putting.catch(() => undefined)
    this.putting.push(putting)
    if (this.putting.length > BATCH.ahead) await this.putting.shift()
  }

  private async keep(entry: FileEntry, stream: AsyncIterable<Uint8Array>): Promise<void> {
    const hash = createHash('sha256')
    const { chunker } = this
    const chunks: string[] = []
    entry.chunks = chunks
    for await (const part of stream) {
      hash.update(part)
      this.bytes += part.length
      this.moved(0, part.length, 0)
      for (const chunk of chunker.push(part)) await this.put(chunks, chunk)
    }
    const last = chunker.end()
    if (last) await this.put(chunks, last)
    entry.sha256 = hash.digest('hex')
  }

  /** Chunks are written while the next ones come; the store says when it has enough of them. */
  private async put(chunks: string[], bytes: Uint8Array<ArrayBuffer>): Promise<void> {
    const at = chunks.push('') - 1
    const putting = this.writer.put(bytes).then(({ name, stored }) => {
      chunks[at] = name
      this.moved(0, 0, stored)
    })
    putting.catch(() => undefined)
    this.putting.push(putting)
    if (this.putting.length > 256) await this.settle()
    else await this.writer.ready()
  }

  private async settle(): Promise<void> {
    await this.putSmall()
    await Promise.all(this.putting.splice(0))
  }

  async content(told: Missing[]): Promise<VolumeContent> {
    await this.settle()
    this.entries.sort((a, b) => (a.path < b.path ? -1 : 1))
    return { entries: this.entries, bytes: this.bytes, fingerprint: fingerprintOf(this.entries), missing: [...this.missing, ...told] }
  }
}

/** SHA-256 over what a person would compare: paths, types, modes, links and contents, in the order of the paths. */
export function fingerprintOf(entries: FileEntry[]): string {
  const hash = createHash('sha256')
  for (const entry of entries) hash.update(JSON.stringify([entry.path, ...traitsOf(entry)]))
  return hash.digest('hex')
}
