import { describe, expect, it } from 'vitest'
import { KEPT_CHARACTERS, storable, storableIn } from './storable'

describe('a text of somebody else', () => {
  it('has no zero bytes and no half characters when it is kept', () => {
    expect(storable('a\0b\ud800')).toBe('a\uFFFDb\uFFFD')
    expect(storableIn({ 'a\0': ['b\0', 1, null, { c: '\0' }] })).toEqual({ 'a\uFFFD': ['b\uFFFD', 1, null, { c: '\uFFFD' }] })
  })

  it('is kept in part when it is long, and says how much is missing', () => {
    const kept = storable('x'.repeat(KEPT_CHARACTERS + 5))
    expect(kept).toBe(`${'x'.repeat(KEPT_CHARACTERS)}\n… (5 more characters)`)
  })
})
