import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { compareKeys, compareRows, fieldsOf, linesOf } from './rows'

describe('fieldsOf', () => {
  it('reads what COPY writes', () => {
    expect(fieldsOf('1\t\\N\ta\\tb\\\\c\\n\t')).toEqual(['1', null, 'a\tb\\c\n', ''])
    expect(fieldsOf('\\\\N\t\\x41\\101')).toEqual(['\\N', 'AA'])
  })
})

describe('linesOf', () => {
  it('goes over the rows of all chunks', () => {
    const encoder = new TextEncoder()
    expect([...linesOf([encoder.encode('a\nb\n'), encoder.encode('\n'), encoder.encode('ü\n')])]).toEqual(['a', 'b', '', 'ü'])
  })
})

describe('compareRows', () => {
  const table = fc.uniqueArray(fc.tuple(fc.integer({ min: 0, max: 40 }), fc.constantFrom('x', 'y', 'z')), { selector: ([key]) => key })
  const lines = (rows: [number, string][]) => rows.map(([key, value]) => `${value}\t${key}`)

  it('places every row, as a reference that looks each key up does', () => {
    fc.assert(
      fc.property(table, table, (earlier, now) => {
        const result = compareRows(lines(earlier), lines(now), [1], 1000)
        const [before, after] = [new Map(earlier), new Map(now)]
        const expected = [...new Set([...before.keys(), ...after.keys()])]
          .sort((a, b) => a - b)
          .flatMap((key) => {
            const [a, b] = [before.get(key), after.get(key)]
            return a === b ? [] : [[String(key), a === undefined ? 'new' : b === undefined ? 'gone' : 'changed']]
          })
        expect(result.rows.map((row) => [row.key, row.mark])).toEqual(expected)
        expect(result.same + result.changed + result.gone).toBe(earlier.length)
        expect(result.same + result.changed + result.fresh).toBe(now.length)
      }),
    )
  })

  it('counts equal rows of a table without key one by one', () => {
    const result = compareRows(['a', 'a', 'b'], ['a', 'c'], null, 10)
    expect(result).toMatchObject({ same: 1, gone: 2, changed: 0, fresh: 1 })
  })

  it('cuts the list of rows, never the counts', () => {
    const result = compareRows(
      Array.from({ length: 50 }, (_, i) => `${i}`),
      [],
      [0],
      3,
    )
    expect(result.gone).toBe(50)
    expect(result.rows.map((row) => row.key)).toEqual(['0', '1', '2'])
  })
})

describe('compareKeys', () => {
  it('orders numbers by value, and text by text', () => {
    expect(['10', '9', '-1', 'a'].sort(compareKeys)).toEqual(['-1', '9', '10', 'a'])
  })
})
