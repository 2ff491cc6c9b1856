import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { RowMatcher } from './matcher'

const rows = fc.array(fc.constantFrom('a', 'b', 'c', 'dd', 'eee'), { maxLength: 30 })

describe('matching rows of two sides', () => {
  it('leaves what one side has more of than the other, in whatever order they come', () => {
    fc.assert(
      fc.property(rows, rows, fc.infiniteStream(fc.boolean()), (before, now, turns) => {
        const matcher = new RowMatcher()
        const [left, right] = [[...before], [...now]]
        while (left.length + right.length > 0) {
          const side = right.length === 0 || (left.length > 0 && turns.next().value) ? 'before' : 'now'
          matcher.add(side, (side === 'before' ? left : right).shift()!)
        }
        const count = (list: string[], row: string) => list.filter((line) => line === row).length
        const more = (a: string[], b: string[]) =>
          ['a', 'b', 'c', 'dd', 'eee'].flatMap((row) => Array<string>(Math.max(0, count(a, row) - count(b, row))).fill(row))
        expect([...matcher.rest('before')].sort()).toEqual(more(before, now))
        expect([...matcher.rest('now')].sort()).toEqual(more(now, before))
        expect(matcher.same).toBe(before.length - more(before, now).length)
        expect(matcher.size).toBe([...more(before, now), ...more(now, before)].join('').length)
      }),
    )
  })
})
