import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { fitting } from './wildcards'

const byExpression = (pattern: string, text: string) =>
  new RegExp(
    `^${pattern
      .replace(/[.+^${}()|[\]\\]/g, '\\$&')
      .replaceAll('*', '.*')
      .replaceAll('?', '.')}$`,
    's',
  ).test(text)

describe('a pattern with wildcards', () => {
  it('fits what the regular expression for it fits', () => {
    const letters = (of: string) => fc.string({ unit: fc.constantFrom(...of), maxLength: 12 })
    fc.assert(
      fc.property(letters('ab*?.'), letters('ab.'), (pattern, text) => fitting(pattern, true)(text) === byExpression(pattern, text)),
    )
  })

  it('takes a question mark for itself where that is not a wildcard', () => {
    expect(fitting('a?')('ab')).toBe(false)
    expect(fitting('a?*')('a?b')).toBe(true)
  })

  it('with many stars is answered as soon as one with few', () => {
    const text = 'a'.repeat(20_000)
    let steps = 0
    const counted = new Proxy(Object(text) as object, {
      get: (of, name) => (steps++, Reflect.get(of, name) as unknown),
    }) as unknown as string
    expect(fitting(`${'*a'.repeat(30)}b`)(counted)).toBe(false)
    expect(steps).toBeLessThan(text.length * 10)
  })
})
