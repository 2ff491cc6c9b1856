import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { fitsLabels, misfits, parseLabelSelector, selectorOf } from './labels'

const read = (text: string) => {
  const { selector, trouble } = parseLabelSelector(text)
  if (!selector) throw new Error(trouble)
  return selector
}
const fits = (text: string, labels: Record<string, string>) => fitsLabels(read(text), labels)

describe('label selectors', () => {
  it('fit as the API says', () => {
    const gate = { app: 'gate', tier: 'front', 'quellmark.example/owner': 'mira', empty: '' }
    for (const yes of [
      '',
      'app=gate',
      'app == gate',
      'app!=desk',
      'none!=x',
      'app in (desk, gate),tier',
      '!debug',
      'none notin (a,b)',
      'empty=',
    ])
      expect([yes, fits(yes, gate)]).toEqual([yes, true])
    for (const no of ['app=desk', 'app!=gate', 'none=x', 'tier notin (front)', '!app', 'debug', 'app=gate,tier=back'])
      expect([no, fits(no, gate)]).toEqual([no, false])
    expect(fits('quellmark.example/owner=mira', gate)).toBe(true)
    expect(fits('constructor', gate)).toBe(false)
  })

  it('say what can’t be read', () => {
    for (const text of ['app=', 'a=b,', ',', 'app=gate tier=front', 'app in gate', 'app in (a', 'app>3', '-x', 'a=-b', 'x in (a b)']) {
      if (text === 'app=') expect(parseLabelSelector(text).trouble).toBeNull()
      else expect([text, parseLabelSelector(text).trouble]).toEqual([text, expect.stringMatching(/requirement|value/)])
    }
  })

  it('are the opposite of each other where one word is', () => {
    const word = fc.constantFrom('a', 'b', 'c')
    const labels = fc.dictionary(word, word)
    fc.assert(
      fc.property(word, word, labels, (key, value, given) => {
        expect(fits(`${key}=${value}`, given)).toBe(!fits(`${key}!=${value}`, given))
        expect(fits(key, given)).toBe(!fits(`!${key}`, given))
        expect(fits(`${key} in (${value})`, given)).toBe(!fits(`${key} notin (${value})`, given))
        expect(misfits(read(`${key}=${value}`), given).length === 0).toBe(fits(`${key}=${value}`, given))
      }),
    )
  })

  it('say why a thing does not fit', () => {
    expect(misfits(read('app=gate,tier in (front, back),!debug'), { app: 'desk', debug: 'on' })).toEqual([
      'app is desk, not gate',
      'it has no label tier, not front or back',
      'debug is on',
    ])
  })

  it('are the same in the fields of an object', () => {
    const selector = selectorOf({
      matchLabels: { app: 'gate' },
      matchExpressions: [
        { key: 'tier', operator: 'In', values: ['front', 'back'] },
        { key: 'zone', operator: 'NotIn', values: ['east'] },
        { key: 'owner', operator: 'Exists' },
        { key: 'debug', operator: 'DoesNotExist' },
      ],
    })
    expect(selector).toEqual(read('app=gate,tier in (front,back),zone notin (east),owner,!debug'))
    expect(selectorOf({})).toEqual([])
  })
})
