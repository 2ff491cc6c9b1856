import { randomBytes } from 'node:crypto'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { readyFilter } from '../../core/look/filter'
import { deriveKeys } from '../store/keys'
import { CODEC, convertTask, nameTask, openTask, scanTask, sealTask } from './tasks'

const keys = { name: randomBytes(32), seal: randomBytes(32), chunks: { key: randomBytes(32), each: true } }
const text = (value: string) => new TextEncoder().encode(value) as Uint8Array<ArrayBuffer>

function stored(plain: Uint8Array<ArrayBuffer>, base: Uint8Array<ArrayBuffer> | null = null) {
  const name = nameTask({ plain, key: keys.name })
  const baseName = base && nameTask({ plain: base, key: keys.name })
  return { name, baseName, base, ...sealTask({ plain, name, chunkKey: keys.chunks, base, baseName }) }
}
const opened = ({ sealed, codec, name, base, baseName }: ReturnType<typeof stored>) => {
  const isDelta = codec === CODEC.delta
  const task = {
    sealed,
    codec,
    name,
    chunkKey: keys.chunks,
    nameKey: keys.name,
    base: isDelta ? base : null,
    baseName: isDelta ? baseName : null,
  }
  return new Uint8Array(openTask(task))
}

describe('content', () => {
  it('comes back as it was, whatever it is', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 2000 }), (plain) => {
        expect(opened(stored(plain as Uint8Array<ArrayBuffer>))).toEqual(plain)
      }),
    )
  })

  it('never shares its memory with anything else, so that it can be moved between threads', () => {
    for (const plain of ['', 'a\n', 'abc'.repeat(5000)].map(text)) {
      const chunk = stored(plain)
      const task = { ...chunk, chunkKey: keys.chunks, nameKey: keys.name, base: null, baseName: null }
      for (const bytes of [chunk.name, chunk.sealed, openTask(task)]) expect(bytes.buffer.byteLength).toBe(bytes.byteLength)
    }
  })

  it('is searched and written out where it is opened', () => {
    const plain = text('1\tA\n2\tB\n3\t\\N\n')
    const task = { ...stored(plain), chunkKey: keys.chunks, nameKey: keys.name, base: null, baseName: null }
    const types = [
      { name: 'id', type: 'integer' },
      { name: 'berth', type: 'text' },
    ]
    const filter = (op: '=' | 'is null', value = '') => readyFilter([{ column: 'berth', op, value }], ['id', 'berth'], types)
    expect(scanTask({ ...task, filter: filter('=', 'B'), from: 0, limit: 10 })).toMatchObject({ at: [1], lines: ['2\tB'] })
    expect(scanTask({ ...task, filter: filter('=', 'C'), from: 0, limit: 10 })).toMatchObject({ at: [] })
    expect(scanTask({ ...task, filter: filter('is null'), from: 0, limit: 10 }).at).toEqual([2])
    expect(scanTask({ ...task, filter: [], from: 1, limit: 1 })).toEqual({ at: [1], lines: ['2\tB'], looked: 2 })
    const job = { ...task, filter: [], order: null, target: { schema: 's', name: 't' }, columns: ['id', 'berth'], types }
    const written = (more: object) => Buffer.from(convertTask({ ...job, format: 'csv', keys: null, ...more }).bytes).toString()
    expect(written({})).toBe('1,A\r\n2,B\r\n3,\r\n')
    expect(written({ format: 'jsonl', keys: { at: [0], wanted: new Set(['3']) } })).toBe('{"id":3,"berth":null}\n')
    expect(written({ order: [1, 0] })).toBe('A,1\r\nB,2\r\n,3\r\n')
    expect(written({ format: 'insert', filter: filter('=', 'A') })).toContain("VALUES ('1', 'A');")
  })

  it('has one name for equal bytes under one key, and another under another', () => {
    expect(nameTask({ plain: text('a'), key: keys.name })).toEqual(nameTask({ plain: text('a'), key: keys.name }))
    expect(nameTask({ plain: text('a'), key: keys.name })).not.toEqual(nameTask({ plain: text('a'), key: keys.seal }))
    expect(nameTask({ plain: text('a'), key: keys.name })).not.toEqual(nameTask({ plain: text('b'), key: keys.name }))
  })

  it('that does not compress is kept as it is', () => {
    expect(stored(new Uint8Array(randomBytes(5000)) as Uint8Array<ArrayBuffer>).codec).toBe(CODEC.raw)
    expect(stored(text('the same '.repeat(500))).codec).toBe(CODEC.zstd)
  })
})

describe('a difference', () => {
  const rows = Array.from({ length: 30_000 }, (_, i) => `${i}\t${Math.sin(i).toString(36)}\tpaid\n`)
  const base = text(rows.join(''))

  it('of a chunk in which one row in a hundred is gone is a small part of it, at every size of chunk', () => {
    for (const count of [6000, 20_000, 30_000]) {
      const before = text(rows.slice(0, count).join(''))
      const after = text(
        rows
          .slice(0, count)
          .filter((_, i) => i % 100 !== 7)
          .join(''),
      )
      const difference = stored(after, before)
      expect(difference.codec).toBe(CODEC.delta)
      expect(difference.sealed.length).toBeLessThan(after.length / 100)
      expect(opened(difference)).toEqual(after)
    }
  })

  it('to something quite different is not made', () => {
    expect(stored(text(rows.map((row) => [...row].reverse().join('')).join('')), base).codec).toBe(CODEC.zstd)
  })

  it('cannot be opened with another base, under another name, or with a flipped bit', () => {
    const difference = stored(text(rows.slice(1).join('')), base)
    expect(() => opened({ ...difference, base: text('another') })).toThrow()
    expect(() => opened({ ...difference, baseName: new Uint8Array(32) as Uint8Array<ArrayBuffer> })).toThrow()
    expect(() => opened({ ...difference, name: new Uint8Array(32) as Uint8Array<ArrayBuffer> })).toThrow()
    const sealed = difference.sealed.slice()
    sealed[20]! ^= 1
    expect(() => opened({ ...difference, sealed })).toThrow()
  })
})

describe('a store of the form before', () => {
  it('is read with the key that all its chunks have', () => {
    // As the program wrote it that made such stores.
    const keys = deriveKeys(Buffer.alloc(32, 7), 'old store', 2)
    const sealed = Buffer.from('abdb03d952f1108bf1176be3c58ced6866ebe447da6dd6083be99cc962b852f03242b2e9f850b747', 'hex')
    const name = Buffer.from('3f5141acfc7d5f435e9df1c161ccaf9405d70a89ecde2838cbb90526d3686739', 'hex')
    const task = { sealed, codec: CODEC.raw, name, nameKey: keys.name, base: null, baseName: null }
    expect(Buffer.from(openTask({ ...task, chunkKey: keys.chunks })).toString()).toBe('1\tof before\n')
    expect(() => openTask({ ...task, chunkKey: deriveKeys(Buffer.alloc(32, 7), 'old store', 3).chunks })).toThrow()
  })
})
