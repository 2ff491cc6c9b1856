import { CODEC, type Codec } from '../pool/tasks'

// How a chunk lies in a pack, as described in docs/formats.md.

const LENGTH_BYTES = 4
export const NAME_BYTES = 32
/** Length, name, codec, plain length. */
export const ENTRY_HEADER_BYTES = LENGTH_BYTES + NAME_BYTES + 1 + 4

export function entryHeader(name: Uint8Array, plainLength: number, codec: Codec, sealedLength: number, base: Uint8Array | null): Buffer {
  const header = Buffer.alloc(ENTRY_HEADER_BYTES + (base ? NAME_BYTES : 0))
  header.writeUInt32BE(header.length - LENGTH_BYTES + sealedLength, 0)
  header.set(name, LENGTH_BYTES)
  header.writeUInt8(codec, 36)
  header.writeUInt32BE(plainLength, 37)
  if (base) header.set(base, ENTRY_HEADER_BYTES)
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
