import { describe, expect, it } from 'vitest'
import type { Rule } from '../selection/rules'
import { pauseOf, type WiderPause } from './paused'
import type { Pause } from './state'

const pause = (reason: string): Pause => ({ since: '2026-11-29T00:00:00Z', until: null, reason, by: 'Ansa' })
const taking = (...patterns: string[]) => ({
  rules: patterns.map((pattern, i): Rule => ({ id: String(i), act: 'take', kind: 'database', pattern })),
})
const source = (name: string): WiderPause => ({ thing: { of: 'source', name }, pause: pause(`${name} moves`) })

describe('by what a vessel is paused', () => {
  it('is a source that its rules take from, whatever stands in them', () => {
    expect(pauseOf(null, taking('db/shop'), [source('db')])).toEqual({ ...pause('db moves'), with: 'db' })
    expect(pauseOf(null, taking('d*/shop'), [source('db')])?.with).toBe('db')
    expect(pauseOf(null, taking('pier/shop'), [source('db')])).toBeNull()
    const leaving = { rules: [...taking('pier/shop').rules, { ...taking('db/shop').rules[0]!, act: 'leave' as const }] }
    expect(pauseOf(null, leaving, [source('db')])).toBeNull()
  })

  it('is everything before a source, and a source before itself', () => {
    const everything: WiderPause = { thing: { of: 'everything' }, pause: pause('the store is full') }
    expect(pauseOf(pause('own'), taking('db/shop'), [source('db'), everything])?.with).toBe('everything')
    expect(pauseOf(pause('own'), taking('db/shop'), [source('db')])?.reason).toBe('db moves')
    expect(pauseOf(pause('own'), taking('db/shop'), [])).toEqual(pause('own'))
  })
})
