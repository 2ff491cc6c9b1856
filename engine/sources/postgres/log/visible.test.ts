import { describe, expect, it } from 'vitest'
import { isVisible } from './visible'

describe('a transaction is visible to a snapshot', () => {
  it('when it had ended, and was not at work', () => {
    expect(isVisible('90', '100:110:103,105')).toBe(true)
    expect(isVisible('103', '100:110:103,105')).toBe(false)
    expect(isVisible('104', '100:110:103,105')).toBe(true)
    expect(isVisible('110', '100:110:103,105')).toBe(false)
    expect(isVisible('99', '100:100:')).toBe(true)
  })
  it('also where the numbers of transactions have begun anew', () => {
    const round = 4294967296n * 3n
    expect(isVisible('4294967290', `${round + 2n}:${round + 9n}:${round + 4n}`)).toBe(true)
    expect(isVisible('3', `${round + 2n}:${round + 9n}:${round + 4n}`)).toBe(true)
    expect(isVisible('4', `${round + 2n}:${round + 9n}:${round + 4n}`)).toBe(false)
    expect(isVisible('12', `${round - 9n}:${round - 2n}:`)).toBe(false)
  })
})
