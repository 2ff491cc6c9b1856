import { sealedParts, SEAL_BYTES } from '../secrets/seal'
import { keyOfChunk, type ChunkKey } from '../store/keys'
import { ENTRY_HEADER_BYTES, entryHeader, parseEntry } from '../store/entry'
import { DIGEST_BYTES, digesting } from './digest'
import { CODEC, compress, contextOf, nameOf, openTask, type Codec } from './tasks'

// Small pieces of content, each a chunk of its own: one by one each would cost more than its bytes.

export const NAME_BYTES = 32

/**
 * Memory (of SharedArrayBuffer) that is shared with the worker threads. Buffers that are moved there and back count as new each time that
 * they arrive, and have the garbage collected far more often than there is any.
 */
export interface PieceMemory {
  /** Pieces, back to back. */
  plain: Uint8Array
  /** What becomes of them: entries of a pack, back to back. */
  entries: Uint8Array
}

/** Memory for so many bytes in so many pieces. */
export const pieceMemory = (bytes: number, pieces: number): PieceMemory => ({
  plain: new Uint8Array(new SharedArrayBuffer(bytes)),
  entries: new Uint8Array(new SharedArrayBuffer(bytes + pieces * (ENTRY_HEADER_BYTES + SEAL_BYTES))),
})

/** Copies into shared memory. `set` would go byte by byte there, unless everything is aligned. */
export function copyInto({ buffer, byteOffset, byteLength }: Uint8Array, part: Uint8Array, at: number): void {
  if (part.length > 0) Buffer.from(buffer, byteOffset, byteLength).fill(part, at, at + part.length)
}

export type Bounds = [from: number, to: number][]

/** Pieces in shared memory, each with where it begins and ends. */
export interface Pieces {
  memory: PieceMemory
  bounds: Bounds
}

/** Names (32 bytes) and digests (64 bytes) of pieces, in their order; each is read once for both. */
export function nameManyTask({ memory, bounds, key }: Pieces & { key: Uint8Array }): {
  names: Uint8Array<ArrayBuffer>
  digests: Uint8Array<ArrayBuffer>
} {
  const [names, digests] = [new Uint8Array(bounds.length * NAME_BYTES), new Uint8Array(bounds.length * DIGEST_BYTES)]
  for (const [i, [from, to]] of bounds.entries()) {
    const digest = digesting().update(memory.plain.subarray(from, to)).digest()
    names.set(nameOf(digest, key), i * NAME_BYTES)
    digests.set(digest, i * DIGEST_BYTES)
  }
  return { names, digests }
}

/** Seals pieces and writes them as entries of a pack; tells how each lies there, with the length of its whole entry. */
export function sealManyTask({ memory, bounds, names, chunkKey }: Pieces & { names: Uint8Array; chunkKey: ChunkKey }): {
  codec: Codec
  length: number
}[] {
  let at = 0
  const write = (part: Uint8Array) => {
    copyInto(memory.entries, part, at)
    at += part.length
  }
  return bounds.map(([from, to], i) => {
    const name = names.subarray(i * NAME_BYTES, (i + 1) * NAME_BYTES)
    const { codec, bytes } = compress({ plain: memory.plain.subarray(from, to), base: null })
    const begin = at
    write(entryHeader(name, to - from, codec, bytes.length + SEAL_BYTES, null))
    for (const part of sealedParts(keyOfChunk(chunkKey, name), bytes, contextOf(name, codec, null))) write(part)
    return { codec, length: at - begin }
  })
}

/** Opens entries of a pack that lie back to back, and makes sure of each that it is what it is named after. Throws when one is not. */
export function openManyTask({
  bytes,
  lengths,
  names,
  chunkKey,
  nameKey,
}: {
  bytes: Uint8Array
  lengths: number[]
  names: Uint8Array[]
  chunkKey: ChunkKey
  nameKey: Uint8Array
}): Uint8Array<ArrayBuffer>[] {
  let at = 0
  return lengths.map((length, i) => {
    const { codec, sealed } = parseEntry(Buffer.from(bytes.buffer, bytes.byteOffset + at, length))
    at += length
    if (codec === CODEC.delta) throw new Error('a difference can’t be opened without its base')
    return openTask({ sealed, codec, name: names[i]!, chunkKey, nameKey, base: null, baseName: null })
  })
}
