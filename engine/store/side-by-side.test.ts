import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { sideBySide, type Placed } from './side-by-side'

const at = (name: string, position: number, over: Partial<NonNullable<Placed['place']>> = {}): Placed => ({
  name,
  place: { pack: 'a', position, length: 100, plainLength: 200, base: null, ...over },
})
const names = (all: Placed[]) => [...sideBySide(all)].map((group) => group.map(({ name }) => name).join(''))

describe('chunks that lie side by side', () => {
  it('are read together, as long as they are small, in one pack, and follow each other', () => {
    expect(names([at('1', 0), at('2', 100), at('3', 200)])).toEqual(['123'])
    expect(names([at('1', 0), at('2', 101), at('3', 201)])).toEqual(['1', '23'])
    expect(names([at('1', 0), at('2', 100, { pack: 'b' }), at('3', 200, { pack: 'b' })])).toEqual(['1', '23'])
    expect(names([at('1', 0), at('2', 100, { plainLength: 1e6 }), at('3', 200)])).toEqual(['1', '2', '3'])
    expect(names([at('1', 0), at('2', 100, { base: Buffer.of(1) }), at('3', 200)])).toEqual(['1', '2', '3'])
    expect(names([at('1', 0), { name: '?', place: undefined }, at('3', 100)])).toEqual(['1', '?', '3'])
    expect(names([])).toEqual([])
  })

  it('keep their order, none is lost, and what is read together stays within bounds', () => {
    const lengths = fc.array(fc.record({ gap: fc.boolean(), length: fc.integer({ min: 1, max: 300_000 }) }), { maxLength: 300 })
    fc.assert(
      fc.property(lengths, (parts) => {
        let end = 0
        const all = parts.map(({ gap, length }, i) => {
          const placed = at(String(i), end + (gap ? 7 : 0), { length, plainLength: length })
          end = placed.place!.position + length
          return placed
        })
        const groups = [...sideBySide(all)]
        expect(groups.flat()).toEqual(all)
        for (const group of groups.filter(({ length }) => length > 1)) {
          const [first, last] = [group[0]!.place!, group.at(-1)!.place!]
          const sum = group.reduce((bytes, { place }) => bytes + place!.length, 0)
          expect(last.position + last.length - first.position).toBe(sum)
          expect(sum).toBeLessThanOrEqual(1024 * 1024)
          expect(group.length).toBeLessThanOrEqual(64)
        }
      }),
    )
  })
})
