import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { ByteChunker, FILE_CHUNK } from './bytes'

/** Bytes that look random and are always the same. */
function noise(length: number, seed = 1): Uint8Array {
  const bytes = new Uint8Array(length)
  let state = seed
  for (let i = 0; i < length; i++) {
    state ^= state << 13
    state ^= state >>> 17
    state ^= state << 5
    bytes[i] = state
  }
  return bytes
}

function chunksOf(bytes: Uint8Array, step = 65_536): Uint8Array[] {
  const chunker = new ByteChunker()
  const chunks: Uint8Array[] = []
  for (let at = 0; at < bytes.length; at += step) chunks.push(...chunker.push(bytes.subarray(at, at + step)))
  const last = chunker.end()
  return last ? [...chunks, last] : chunks
}
const text = (chunk: Uint8Array) => Buffer.from(chunk).toString('latin1')

describe('ByteChunker', () => {
  const data = noise(24 * 1024 * 1024)
  const whole = chunksOf(data)

  it('gives back every byte, in chunks within their bounds and near the length that is wanted', () => {
    expect(Buffer.concat(whole).equals(Buffer.from(data))).toBe(true)
    for (const chunk of whole.slice(0, -1)) {
      expect(chunk.length).toBeGreaterThanOrEqual(FILE_CHUNK.min)
      expect(chunk.length).toBeLessThanOrEqual(FILE_CHUNK.max)
    }
    const average = data.length / whole.length
    expect(average).toBeGreaterThan(FILE_CHUNK.target * 0.6)
    expect(average).toBeLessThan(FILE_CHUNK.target * 1.7)
  })

  it('cuts at the same places however the bytes come', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 3_000_000 }), (step) => {
        expect(chunksOf(data.subarray(0, 6_000_000), step).map(({ length }) => length)).toEqual(
          chunksOf(data.subarray(0, 6_000_000)).map(({ length }) => length),
        )
      }),
      { numRuns: 15 },
    )
  })

  it('changes only the chunks around what was inserted or removed', () => {
    const known = new Set(whole.map(text))
    for (const at of [0, 5_000_000, 23_000_000]) {
      const inserted = chunksOf(Buffer.concat([data.subarray(0, at), Buffer.from('a few bytes'), data.subarray(at)]))
      expect(inserted.filter((chunk) => !known.has(text(chunk))).length).toBeLessThanOrEqual(3)
      const removed = chunksOf(Buffer.concat([data.subarray(0, at), data.subarray(at + 777)]))
      expect(removed.filter((chunk) => !known.has(text(chunk))).length).toBeLessThanOrEqual(3)
    }
  })

  it('takes what is small, empty or all the same', () => {
    expect(chunksOf(new Uint8Array(0))).toEqual([])
    expect(chunksOf(noise(10)).map(({ length }) => length)).toEqual([10])
    const zeros = chunksOf(new Uint8Array(9 * 1024 * 1024))
    expect(Buffer.concat(zeros).length).toBe(9 * 1024 * 1024)
    expect(Math.max(...zeros.map(({ length }) => length))).toBeLessThanOrEqual(FILE_CHUNK.max)
  })
})
