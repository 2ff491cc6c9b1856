import { randomUUID } from 'node:crypto'
import type { Codec, SealedChunk } from '../pool/tasks'
import { CODEC } from '../pool/tasks'
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

/** Writes one pack. Nothing of it may be referred to before `commit` has returned. */
export class PackWriter {
  readonly entries: PackEntry[] = []
  bytes = 0

  private constructor(
    readonly id: string,
    private readonly file: PendingFile,
  ) {}

  static async open(backend: Backend): Promise<PackWriter> {
    const id = randomUUID()
    const writer = new PackWriter(id, await backend.create(packPath(id)))
    const header = Buffer.concat([MAGIC, Buffer.from(id.replaceAll('-', ''), 'hex')])
    await writer.file.append(header)
    writer.bytes = header.length
    return writer
  }

  /**
   * Many small entries in one write, whose sealed bytes lie back to back. Calls must be awaited one after the other.
   * Returns the length of each.
   */
  async appendMany(entries: { name: Buffer; plainLength: number; codec: Codec; length: number }[], sealed: Uint8Array): Promise<number[]> {
    const parts: Uint8Array[] = []
    let from = 0
    const lengths = entries.map(({ name, plainLength, codec, length: own }) => {
      const header = entryHeader(name, plainLength, codec, own, null)
      const length = header.length + own
      this.entries.push({ name, codec, base: null, plainLength, position: this.bytes, length })
      this.bytes += length
      parts.push(header, sealed.subarray(from, (from += own)))
      return length
    })
    await this.file.append(Buffer.concat(parts))
    return lengths
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

function entryHeader(name: Buffer, plainLength: number, codec: Codec, sealedLength: number, base: Buffer | null): Buffer {
  const header = Buffer.alloc(4 + 32 + 1 + 4 + (base ? 32 : 0))
  header.writeUInt32BE(header.length - 4 + sealedLength, 0)
  name.copy(header, 4)
  header.writeUInt8(codec, 36)
  header.writeUInt32BE(plainLength, 37)
  base?.copy(header, 41)
  return header
}

export interface ParsedEntry {
  name: Buffer
  codec: Codec
  plainLength: number
  base: Buffer | null
  sealed: Buffer
}

/** Reads an entry as it lies in a pack. Throws when it does not hold together. */
export function parseEntry(bytes: Buffer): ParsedEntry {
  const length = bytes.readUInt32BE(0)
  if (length + 4 !== bytes.length) throw new Error('the length of the entry is not what the index says')
  const codec = bytes.readUInt8(36) as Codec
  const base = codec === CODEC.delta ? bytes.subarray(41, 73) : null
  return {
    name: bytes.subarray(4, 36),
    codec,
    plainLength: bytes.readUInt32BE(37),
    base,
    sealed: bytes.subarray(base ? 73 : 41),
  }
}
