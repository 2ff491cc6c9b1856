import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { Sorting } from './sorting'

describe('items that are sorted', () => {
  it('come in the order of their keys, however few are held, as often as one likes, and are what they were', () => {
    const item = fc.record({ path: fc.string({ unit: 'binary' }), size: fc.nat(), more: fc.option(fc.string()) })
    fc.assert(
      fc.property(fc.array(item, { maxLength: 200 }), fc.integer({ min: 1, max: 50 }), (items, held) => {
        const sorting = new Sorting<(typeof items)[number]>(({ path }) => path, held)
        for (const item of items) sorting.add(item)
        const expected = [...items].sort((a, b) => (a.path < b.path ? -1 : a.path > b.path ? 1 : 0))
        expect([...sorting].map(({ path }) => path)).toEqual(expected.map(({ path }) => path))
        expect(new Set([...sorting].map((element) => JSON.stringify(element)))).toEqual(new Set(items.map((item) => JSON.stringify(item))))
        expect(sorting.count).toBe(items.length)
        sorting.close()
      }),
    )
  })

  it('that are longer than a block, and many, come whole', () => {
    const sorting = new Sorting<{ n: string; text: string }>(({ n }) => n, 7)
    const all = Array.from({ length: 40 }, (_, i) => ({ n: String((i * 17) % 40).padStart(2, '0'), text: 'ü€😀'.repeat(60_000) + i }))
    for (const item of all) sorting.add(item)
    expect([...sorting]).toEqual([...all].sort((a, b) => (a.n < b.n ? -1 : 1)))
    sorting.close()
  })
})
