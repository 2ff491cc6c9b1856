import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import xxhash from 'xxhash-wasm'
import { CHUNK_BYTES, RowChunker, tallyRows, xxh64, type RowChunk } from './rows'

const encoder = new TextEncoder()

function chunksOf(pieces: Uint8Array[], options: ConstructorParameters<typeof RowChunker>[0] = {}) {
  const chunker = new RowChunker(options)
  const chunks: RowChunk[] = []
  for (const piece of pieces) chunks.push(...chunker.push(piece))
  const last = chunker.finish()
  if (last) chunks.push(last)
  return { chunks, tally: chunker.tally(), rest: chunker.rest() }
}

function cutAt(bytes: Uint8Array, cuts: number[]): Uint8Array[] {
  const ends = [...new Set(cuts.map((cut) => cut % (bytes.length + 1)))].sort((a, b) => a - b)
  return [0, ...ends].map((start, i) => bytes.slice(start, ends[i] ?? bytes.length))
}

function framed(rows: Uint8Array[]): Uint8Array {
  return Buffer.concat(
    rows.map((row) => {
      const header = Buffer.alloc(5)
      header.write('d')
      header.writeUInt32BE(row.length + 4, 1)
      return Buffer.concat([header, row])
    }),
  )
}

const join = (chunks: RowChunk[]) => Buffer.concat(chunks.map((chunk) => chunk.bytes))
const small = { min: 40, target: 120, max: 400 }
const rowText = fc.string({ maxLength: 60 }).map((text) => `${text.replaceAll('\n', '\\n')}\n`)
const rowsOf = fc.array(rowText, { maxLength: 80 })

describe('RowChunker', () => {
  it('hashes as an independent implementation of XXH64 does', async () => {
    const reference = await xxhash()
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 200 }), fc.constantFrom(0n, 1n, 77n), (bytes, seed) => {
        expect(xxh64(bytes, seed)).toBe(reference.h64Raw(bytes, seed))
      }),
    )
  })

  it('gives the same chunks and fingerprint however the input is cut into pieces', () => {
    fc.assert(
      fc.property(rowsOf, fc.array(fc.nat()), (rows, cuts) => {
        const bytes = encoder.encode(rows.join(''))
        const whole = chunksOf([bytes], small)
        const pieces = chunksOf(cutAt(bytes, cuts), small)
        expect(pieces).toEqual(whole)
        expect(join(whole.chunks)).toEqual(Buffer.from(bytes))
        expect(whole.tally.rows).toBe(rows.length)
      }),
    )
  })

  it('takes the rows out of protocol messages and leaves the message that ends them', () => {
    fc.assert(
      fc.property(rowsOf, fc.array(fc.nat()), (rows, cuts) => {
        const encoded = rows.map((row) => encoder.encode(row))
        const end = encoder.encode('c\0\0\0\x04')
        const wire = Buffer.concat([framed(encoded), end])
        const fromWire = chunksOf(cutAt(wire, cuts), { ...small, framed: true })
        const plain = chunksOf([encoder.encode(rows.join(''))], small)
        expect(fromWire.chunks).toEqual(plain.chunks)
        expect(Buffer.from(fromWire.rest)).toEqual(Buffer.from(end))
      }),
    )
  })

  it('has a fingerprint that depends on every row and not on their order', () => {
    fc.assert(
      fc.property(rowsOf, fc.nat(), (rows, index) => {
        const tally = tallyRows([encoder.encode(rows.join(''))])
        const turned = tallyRows([encoder.encode([...rows].reverse().join(''))])
        expect(turned).toEqual(tally)
        if (rows.length === 0) return
        const fewer = rows.filter((_, i) => i !== index % rows.length)
        expect(tallyRows([encoder.encode(fewer.join(''))]).fingerprint).not.toBe(tally.fingerprint)
        const twice = [...rows, rows[index % rows.length]]
        expect(tallyRows([encoder.encode(twice.join(''))]).fingerprint).not.toBe(tally.fingerprint)
      }),
      { numRuns: 40 },
    )
  })

  it('knows the range of the keys of each chunk', () => {
    const keys = fc.array(fc.bigInt({ min: -(2n ** 63n) + 1n, max: 2n ** 63n - 1n }), { minLength: 1 })
    fc.assert(
      fc.property(keys, (values) => {
        const text = values.map((key) => `x\t${key}\ty\n`).join('')
        const { chunks } = chunksOf([encoder.encode(text)], { ...small, keyColumn: 1 })
        let at = 0
        for (const chunk of chunks) {
          const part = values.slice(at, (at += chunk.rows)).sort((a, b) => (a < b ? -1 : 1))
          expect(chunk.keys).toEqual({ min: part[0], max: part.at(-1) })
        }
      }),
    )
  })

  it('keeps most chunks when single rows change, come and go', () => {
    const rows = Array.from({ length: 60_000 }, (_, i) => `${i}\tpassenger ${i * 7919}\t${(i * 31) % 997}\n`)
    const before = chunksOf([encoder.encode(rows.join(''))], { min: 4096, target: 16384, max: 65536 })
    rows[20_000] = '20000\tsomebody else\t0\n'
    rows.splice(40_000, 1)
    rows.splice(50_000, 0, '99999\tlate\t1\n')
    const after = chunksOf([encoder.encode(rows.join(''))], { min: 4096, target: 16384, max: 65536 })
    const known = new Set(before.chunks.map((chunk) => Buffer.from(chunk.bytes).toString('latin1')))
    const fresh = after.chunks.filter((chunk) => !known.has(Buffer.from(chunk.bytes).toString('latin1')))
    expect(before.chunks.length).toBeGreaterThan(60)
    expect(fresh.length).toBeLessThanOrEqual(6)
  })

  it('keeps chunks within their bounds, and takes a row larger than all of them', () => {
    const giant = `${'x'.repeat(9 * 1024 * 1024)}\n`
    const text = Array.from({ length: 200_000 }, (_, i) => `${i}\trow of ordinary length ${i}\n`).join('')
    const { chunks, tally } = chunksOf([encoder.encode(text), encoder.encode(giant), encoder.encode(text)])
    expect(tally.rows).toBe(400_001)
    const ordinary = chunks.filter((chunk) => chunk.bytes.length < giant.length)
    expect(chunks.length - ordinary.length).toBe(1)
    for (const chunk of ordinary.slice(0, -1)) {
      expect(chunk.bytes.length).toBeLessThan(CHUNK_BYTES.max + 100)
    }
    expect(join(chunks).length).toBe(2 * text.length + giant.length)
  })
})
