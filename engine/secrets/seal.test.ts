import { randomBytes } from 'node:crypto'
import { readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { seal, Secrets, unseal } from './seal'
import { ownFolder } from '../../tests/support/folder'

const key = randomBytes(32)

describe('a seal', () => {
  it('gives back what was sealed, with its key and its context', () => {
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 300 }), fc.string(), (plain, context) => {
        expect(new Uint8Array(unseal(key, seal(key, plain, context), context))).toEqual(plain)
      }),
    )
  })

  it('does not hold when a single bit, the key or the context is another', () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 1, maxLength: 60 }), fc.nat(), fc.nat(7), (plain, at, bit) => {
        const sealed = seal(key, plain, 'source 1')
        const broken = Buffer.from(sealed)
        broken[at % broken.length]! ^= 1 << bit
        expect(() => unseal(key, broken, 'source 1')).toThrow()
        expect(() => unseal(key, sealed, 'source 2')).toThrow()
        expect(() => unseal(randomBytes(32), sealed, 'source 1')).toThrow()
      }),
    )
  })

  it('is never the same twice', () => {
    expect(seal(key, Buffer.from('x'), '')).not.toEqual(seal(key, Buffer.from('x'), ''))
  })
})

describe('the master key', () => {
  it('is made for its user alone when it is missing, and found again', async () => {
    const file = join(ownFolder('key'), 'below', 'master.key')
    const sealed = (await Secrets.open({ file })).seal('a password', 'source 1')
    expect(statSync(file).mode & 0o777).toBe(0o600)
    expect(readFileSync(file, 'utf8')).toMatch(/^[0-9a-f]{64}\n$/)
    expect((await Secrets.open({ file })).open(sealed, 'source 1').toString()).toBe('a password')
  })

  it('from the environment goes before the file, and a wrong one is told', async () => {
    const file = join(ownFolder('key'), 'master.key')
    const sealed = (await Secrets.open({ file, hex: 'ab'.repeat(32) })).seal('x', 'c')
    expect(() => statSync(file)).toThrow()
    const other = await Secrets.open({ file, hex: 'cd'.repeat(32) })
    expect(() => other.open(sealed, 'c')).toThrow(expect.objectContaining({ code: 'master_key_wrong' }))
  })

  it('that is none is refused, and the file stays as it is', async () => {
    const file = join(ownFolder('key'), 'master.key')
    writeFileSync(file, 'not a key')
    await expect(Secrets.open({ file })).rejects.toMatchObject({ code: 'master_key_malformed' })
    expect(readFileSync(file, 'utf8')).toBe('not a key')
  })
})
