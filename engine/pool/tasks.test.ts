import { randomBytes } from 'node:crypto'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { CODEC, nameTask, openTask, sealTask } from './tasks'

const keys = { name: randomBytes(32), seal: randomBytes(32) }
const text = (value: string) => new TextEncoder().encode(value) as Uint8Array<ArrayBuffer>

function stored(plain: Uint8Array<ArrayBuffer>, base: Uint8Array<ArrayBuffer> | null = null) {
  const name = nameTask({ plain, key: keys.name })
  const baseName = base && nameTask({ plain: base, key: keys.name })
  return { name, baseName, base, ...sealTask({ plain, name, key: keys.seal, base, baseName }) }
}
const opened = ({ sealed, codec, name, base, baseName }: ReturnType<typeof stored>) => {
  const isDelta = codec === CODEC.delta
  const task = {
    sealed,
    codec,
    name,
    sealKey: keys.seal,
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
