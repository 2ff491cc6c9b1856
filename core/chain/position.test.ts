import { describe, expect, it } from 'vitest'
import { newestAtPosition, positionOf } from './position'

describe('positionOf', () => {
  it('orders positions across the halves, and refuses what is none', () => {
    const texts = ['0/16B3748', '0/FFFFFFFF', '1/0', '16/B2A41F08', 'a/1']
    const values = texts.map((text) => positionOf(text)!)
    expect([...values].sort((a, b) => (a < b ? -1 : 1))).toEqual([values[0], values[1], values[2], values[4], values[3]])
    for (const text of ['', '1', '1/', 'x/1', '1/123456789', '9:41']) expect(positionOf(text)).toBeUndefined()
  })
})

describe('newestAtPosition', () => {
  it('finds what stood at a position, never anything after it', () => {
    const all = ['0/10', '0/20', '0/30'].map((to, i) => ({ to, at: new Date(i) }))
    expect(newestAtPosition(all, positionOf('0/2F')!)?.to).toBe('0/20')
    expect(newestAtPosition(all, positionOf('0/F')!)).toBeUndefined()
  })
})
