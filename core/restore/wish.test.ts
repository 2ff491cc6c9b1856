import { describe, expect, it } from 'vitest'
import { isPlain, wishOf, type Wish } from './wish'

describe('a wish in which nothing was chosen but what is picked', () => {
  const plain: Wish = { ...wishOf({}), picks: ['db/a', 'db/b'] }
  it('is known, in whichever order it was written', () => {
    expect(isPlain(plain)).toBe(true)
    expect(isPlain(Object.fromEntries(Object.entries(plain).reverse()) as unknown as Wish)).toBe(true)
  })
  it.each([
    ['another way with what collides', { collide: 'merge' }],
    ['single rows', { rows: { 'db/a': { keys: [['1']], overwrite: null } } }],
    ['another place', { into: { mode: 'scratch', source: '', hours: 8 } }],
    ['files', { cluster: { ...plain.cluster, files: { 'pier/a/volume/b': ['c'] } } }],
  ] satisfies [string, Partial<Wish>][])('is not one with %s', (_, more) => expect(isPlain({ ...plain, ...more })).toBe(false))
})
