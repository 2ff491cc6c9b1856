import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { ChunkList, namesOfChunks } from './chunk-list'
import type { ChunkRef } from './manifest'

const hex = (digits: number) =>
  fc.uint8Array({ minLength: digits / 2, maxLength: digits / 2 }).map((bytes) => Buffer.from(bytes).toString('hex'))
const key = fc.bigInt({ min: -(2n ** 63n), max: 2n ** 63n - 1n }).map(String)
const number = fc.integer({ min: 0, max: 2 ** 32 - 1 })
const chunk: fc.Arbitrary<ChunkRef> = fc.record({
  name: hex(64),
  rows: number,
  bytes: number,
  keys: fc.option(fc.tuple(key, key)),
  tail: hex(16),
})

const packed = (chunks: ChunkRef[]) => {
  const list = new ChunkList()
  for (const chunk of chunks) list.push(chunk)
  return list
}

describe('packed chunks', () => {
  it('read as the array that they are', () => {
    fc.assert(
      fc.property(fc.array(chunk, { maxLength: 30 }), fc.integer({ min: -35, max: 35 }), (chunks, index) => {
        const list = packed(chunks)
        const isEven = ({ rows }: ChunkRef) => rows % 2 === 0
        expect(chunks.every((chunk) => ChunkList.fits(chunk))).toBe(true)
        expect([...list]).toEqual(chunks)
        expect(JSON.parse(JSON.stringify(list))).toEqual(chunks)
        expect(list.length).toBe(chunks.length)
        expect(list.at(index)).toEqual(chunks.at(index))
        expect([...list.filter(isEven)]).toEqual(chunks.filter(isEven))
        expect([list.some(isEven), list.every(isEven)]).toEqual([chunks.some(isEven), chunks.every(isEven)])
        expect(list.map(({ rows }, i) => rows + i)).toEqual(chunks.map(({ rows }, i) => rows + i))
        expect(list.flatMap(({ keys }) => keys ?? [])).toEqual(chunks.flatMap(({ keys }) => keys ?? []))
        expect(list.reduce((sum, { bytes }) => sum + bytes, 0)).toBe(chunks.reduce((sum, { bytes }) => sum + bytes, 0))
        expect([...list.slice(2, 5)]).toEqual(chunks.slice(2, 5))
        expect([...namesOfChunks(list)]).toEqual(chunks.map(({ name }) => name))
        expect([...list.entries()]).toEqual([...chunks.entries()])
      }),
    )
  })

  it('are packed only where they fit', () => {
    const sample: ChunkRef = { name: 'ab'.repeat(32), rows: 1, bytes: 2, keys: ['-0'.slice(1), '5'], tail: 'cd'.repeat(8) }
    const odd = [
      { name: 'AB'.repeat(32) },
      { rows: -1 },
      { bytes: 2 ** 32 },
      { keys: ['07', '9'] },
      { keys: [String(2n ** 63n), '9'] },
      { tail: '' },
      { more: 1 },
      { keys: ['-0', '1'] },
    ]
    for (const other of odd) expect(ChunkList.fits({ ...sample, ...other })).toBe(false)
  })
})
