import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { nameTrouble, slugFor } from './name'

describe('a name', () => {
  it('is whatever can be read, in any script', () => {
    for (const name of ['Bookings', ' crew rota ', '渡船', '№ 7', 'é', 'x'.repeat(80)])
      expect([name, nameTrouble(name, 80)]).toEqual([name, null])
  })

  it('is not what looks like nothing, holds what can’t be seen, or is too long', () => {
    for (const name of ['', '  ', "'", '---', '…']) expect(nameTrouble(name, 80)).toMatch(/letter or a digit/)
    for (const name of ['a\nb', 'a\u0000b', 'a\u202eb']) expect(nameTrouble(name, 80)).toMatch(/can’t be seen/)
    expect(nameTrouble('x'.repeat(81), 80)).toBe('The name has 81 characters, and may have 80.')
  })
})

describe('its part of an address', () => {
  it('keeps letters and digits, without their accents', () => {
    expect(slugFor('Crew rota', new Set())).toBe('crew-rota')
    expect(slugFor('  Fähre № 7! ', new Set())).toBe('fahre-no-7')
    expect(slugFor('渡船', new Set())).toBe('vessel')
  })

  it('is another one for each name, and always one that addresses of moments can hold', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ unit: 'grapheme' }), { maxLength: 12 }), (names) => {
        const taken = new Set<string>()
        for (const name of names) taken.add(slugFor(name, taken))
        expect(taken.size).toBe(names.length)
        for (const slug of taken) expect(slug).toMatch(/^[a-z0-9]+(-[a-z0-9]+)*$/)
      }),
    )
  })
})
