/** Bounds of chunks of files, in bytes; a smaller file is a chunk of its own. */
export const FILE_CHUNK = { min: 256 * 1024, target: 1024 * 1024, max: 4 * 1024 * 1024 } as const

// A table of 256 random-looking words, always the same: the same bytes must give the same chunks for ever.
// Made by splitmix32 from 0x9e3779b9.
const GEAR = new Int32Array(256)
for (let i = 0, state = 0x9e3779b9; i < 256; i++) {
  state = (state + 0x9e3779b9) >>> 0
  let mixed = state
  mixed = Math.imul(mixed ^ (mixed >>> 16), 0x21f0aaad)
  mixed = Math.imul(mixed ^ (mixed >>> 15), 0x735a2d97)
  GEAR[i] = mixed ^ (mixed >>> 15)
}

// The upper bits of the sum depend on the last 32 bytes. Before the target a cut is made less likely, after it more,
// so that lengths lie closer to it (the normalization of Xia et al., "FastCDC", USENIX ATC 2016).
const BEFORE = 0xfffffc00 | 0
const AFTER = 0xffff8000 | 0

/**
 * Cuts a stream of bytes into content-defined chunks: where it is cut depends on the last 32 bytes only, so what is
 * inserted or removed changes the chunks around it and no others.
 */
export class ByteChunker {
  private pending: Uint8Array<ArrayBuffer> = new Uint8Array(FILE_CHUNK.max)
  private length = 0
  private scanned = 0
  private sum = 0

  /** What is left at the end; null when nothing is. */
  end(): Uint8Array<ArrayBuffer> | null {
    return this.length === 0 ? null : this.take(this.length)
  }

  /** Takes more bytes; gives the chunks that end in them. */
  *push(bytes: Uint8Array): Generator<Uint8Array<ArrayBuffer>> {
    for (let from = 0; from < bytes.length;) {
      const room = Math.min(FILE_CHUNK.max - this.length, bytes.length - from)
      this.pending.set(bytes.subarray(from, from + room), this.length)
      this.length += room
      from += room
      for (let end = this.cut(); end > 0; end = this.cut()) yield this.take(end)
    }
  }

  /** Where the chunk ends, or 0 when more bytes are needed. */
  private cut(): number {
    if (this.scanned < FILE_CHUNK.min) {
      if (this.length < FILE_CHUNK.min) return 0
      // Nothing is cut before the least length; the last bytes of it are what the sum begins with.
      this.scanned = FILE_CHUNK.min - 32
      this.sum = 0
    }
    const { pending, length } = this
    let { sum, scanned: at } = this
    const target = Math.min(length, FILE_CHUNK.target)
    for (; at < target; at++) {
      sum = ((sum << 1) + GEAR[pending[at]!]!) | 0
      if ((sum & BEFORE) === 0 && at + 1 >= FILE_CHUNK.min) return at + 1
    }
    for (; at < length; at++) {
      sum = ((sum << 1) + GEAR[pending[at]!]!) | 0
      if ((sum & AFTER) === 0) return at + 1
    }
    this.sum = sum
    this.scanned = at
    return length === FILE_CHUNK.max ? length : 0
  }

  private take(end: number): Uint8Array<ArrayBuffer> {
    const chunk = this.pending.slice(0, end)
    this.pending.copyWithin(0, end, this.length)
    this.length -= end
    this.scanned = 0
    this.sum = 0
    return chunk
  }
}
