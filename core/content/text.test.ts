import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { bytesOf, hasStrays, textOf } from './text'

describe('bytes as a string', () => {
  it('are the same bytes again, whatever they are', () => {
    fc.assert(fc.property(fc.uint8Array({ maxLength: 40 }), (bytes) => void expect(bytesOf(textOf(bytes))).toEqual(bytes)))
  })

  it('are the text that they are, and only that: characters of any width, a mark at the beginning, half of a character', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'binary' }), (text) => {
        expect(textOf(new TextEncoder().encode(text))).toBe(text)
        expect(hasStrays(text)).toBe(false)
        expect(bytesOf(text)).toEqual(new TextEncoder().encode(text))
      }),
    )
    expect(textOf(Uint8Array.of(0xef, 0xbb, 0xbf, 0x61))).toBe('\ufeffa')
    expect(textOf(Uint8Array.of(0x61, 0xe9, 0xc3, 0xa9, 0xff))).toBe('a\udce9é\udcff')
    expect(textOf(Uint8Array.of(0xf0, 0x9f, 0x92))).toBe('\udcf0\udc9f\udc92')
    expect(bytesOf('💀\udce9')).toEqual(Uint8Array.of(0xf0, 0x9f, 0x92, 0x80, 0xe9))
  })
})
