import type { Codec, SealedChunk } from '../pool/tasks'
import { entryHeader } from './entry'
import type { Backend, PendingFile } from './folder'

// Packs as described in docs/formats.md: a header, then entries that each describe themselves, so that the
// index can be rebuilt from the packs alone.

const MAGIC = Buffer.from('UVPACK01')
export const PACK_HEADER_BYTES = MAGIC.length + 16
/** A pack is closed when it has grown to this size. */
export const PACK_BYTES = 64 * 1024 * 1024

export interface PackEntry {
  name: Buffer
  codec: Codec
  base: Buffer | null
  plainLength: number
  /** Position of the entry in its pack, and the whole entry's length. */
  position: number
  length: number
}

export interface WrittenPack {
  id: string
  path: string
  bytes: number
  entries: PackEntry[]
}

export const packPath = (id: string) => `packs/${id}.pack`

/** Whether bytes are the beginning of this pack. */
export const isPackHeader = (bytes: Buffer, id: string) => bytes.equals(headerOf(id))

const headerOf = (id: string) => Buffer.concat([MAGIC, Buffer.from(id.replaceAll('-', ''), 'hex')])

/** Writes one pack. Nothing of it may be referred to before `commit` has returned. */
export class PackWriter {
  readonly entries: PackEntry[] = []
  bytes = 0

  private constructor(
    readonly id: string,
    private readonly file: PendingFile,
  ) {}

  static async open(backend: Backend, id: string): Promise<PackWriter> {
    const writer = new PackWriter(id, await backend.create(packPath(id)))
    const header = headerOf(id)
    await writer.file.append(header)
    writer.bytes = header.length
    return writer
  }

  /**
   * Many entries in one write, which lie back to back as they are to lie in the pack. Calls must be awaited one after the
   * other.
   */
  async appendMany(
    entries: (Pick<PackEntry, 'name' | 'plainLength' | 'codec' | 'length'> & Partial<Pick<PackEntry, 'base'>>)[],
    bytes: Uint8Array,
  ): Promise<void> {
    for (const entry of entries) {
      this.entries.push({ base: null, ...entry, position: this.bytes })
      this.bytes += entry.length
    }
    await this.file.append(bytes)
  }

  /** Reserves the entry's place at once, so calls must be awaited one after the other. Returns its length. */
  async append(name: Buffer, plainLength: number, chunk: SealedChunk, base: Buffer | null): Promise<number> {
    const header = entryHeader(name, plainLength, chunk.codec, chunk.sealed.length, base)
    const length = header.length + chunk.sealed.length
    this.entries.push({ name, codec: chunk.codec, base, plainLength, position: this.bytes, length })
    this.bytes += length
    await this.file.append(header)
    await this.file.append(chunk.sealed)
    return length
  }

  async commit(): Promise<WrittenPack> {
    await this.file.commit()
    return { id: this.id, path: packPath(this.id), bytes: this.bytes, entries: this.entries }
  }

  discard(): Promise<void> {
    return this.file.discard()
  }
}
