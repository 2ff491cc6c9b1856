import { createHash, randomBytes } from 'node:crypto'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { ENTRY_HEADER_BYTES, parseEntry } from '../store/entry'
import { copyInto, nameManyTask, NAME_BYTES, openManyTask, pieceMemory, sealManyTask, type Bounds } from './pieces'
import { nameTask, openTask } from './tasks'

const keys = { name: randomBytes(32), seal: randomBytes(32), chunks: { key: randomBytes(32), each: true } }

/** Pieces as they lie in shared memory, at odd places. */
function pieces(parts: Uint8Array[]) {
  const length = parts.reduce((sum, part) => sum + part.length, 1)
  const memory = pieceMemory(length, parts.length)
  const bounds: Bounds = []
  let at = 1
  for (const part of parts) {
    copyInto(memory.plain, part, at)
    bounds.push([at, (at += part.length)])
  }
  return { memory, bounds }
}

const parts = fc.array(fc.uint8Array({ minLength: 1, maxLength: 500 }), { minLength: 1, maxLength: 20 })

describe('small pieces', () => {
  it('are named as each of them would be alone, with the digest of their bytes', () => {
    fc.assert(
      fc.property(parts, (all) => {
        const { names, digests } = nameManyTask({ ...pieces(all), key: keys.name })
        for (const [i, part] of all.entries()) {
          const name = nameTask({ plain: part, key: keys.name })
          expect(Buffer.from(names.subarray(i * NAME_BYTES, (i + 1) * NAME_BYTES))).toEqual(Buffer.from(name))
          expect(Buffer.from(digests.subarray(i * 64, (i + 1) * 64))).toEqual(createHash('blake2b512').update(part).digest())
        }
      }),
    )
  })

  it('become entries of a pack, back to back, from which each is read as it was', () => {
    fc.assert(
      fc.property(parts, fc.boolean(), (all, doCompress) => {
        const given = doCompress ? all.map((part) => Buffer.alloc(part.length * 40, part)) : all
        const { memory, bounds } = pieces(given)
        const { names } = nameManyTask({ memory, bounds, key: keys.name })
        const sealed = sealManyTask({ memory, bounds, names, chunkKey: keys.chunks })
        let at = 0
        for (const [i, { codec, length }] of sealed.entries()) {
          const entry = parseEntry(Buffer.from(memory.entries.slice(at, (at += length))))
          expect(entry).toMatchObject({ codec, plainLength: given[i]!.length, base: null })
          const plain = openTask({ ...entry, chunkKey: keys.chunks, nameKey: keys.name, base: null, baseName: null })
          expect(Buffer.from(plain)).toEqual(Buffer.from(given[i]!))
          expect(entry.sealed.length).toBe(length - ENTRY_HEADER_BYTES)
        }
        const task = {
          lengths: sealed.map(({ length }) => length),
          names: all.map((_, i) => names.subarray(i * NAME_BYTES, (i + 1) * NAME_BYTES)),
          chunkKey: keys.chunks,
          nameKey: keys.name,
        }
        const bytes = Buffer.from(memory.entries.slice(0, at))
        expect(openManyTask({ bytes, ...task }).map((plain) => Buffer.from(plain))).toEqual(given.map((part) => Buffer.from(part)))
        bytes[at - 1]! ^= 1
        expect(() => openManyTask({ bytes, ...task })).toThrow()
      }),
      { numRuns: 50 },
    )
  })

  it('that do not compress fit into the memory that was made for them', () => {
    const random = Array.from({ length: 40 }, () => randomBytes(1 + Math.floor(Math.random() * 300)))
    const { memory, bounds } = pieces(random)
    const { names } = nameManyTask({ memory, bounds, key: keys.name })
    const all = sealManyTask({ memory, bounds, names, chunkKey: keys.chunks }).reduce((sum, { length }) => sum + length, 0)
    // One byte of what was given lies before the first piece.
    expect(all).toBe(memory.entries.length - 1)
  })
})
