import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { upwards } from './thing'
import { seenOf, type TreeThing } from './tree'

const TREE: TreeThing[] = [
  ['db/bookings', true],
  ['db/bookings/sales', true],
  ['db/bookings/sales/booking', false],
  ['db/bookings/sales/booking_leg', false],
  ['db/bookings/sales2', true],
  ['db/bookings/sales2/old_leg', false],
  ['pier/kiosk', true],
  ['pier/kiosk/volume/receipts', false],
].map(([path, isContainer]) => ({ path: String(path), name: String(path).split('/').at(-1)!, isContainer: Boolean(isContainer) }))
const seen = (text: string, folded: string[] = []) => seenOf(TREE, text, new Set(folded)).map((i) => TREE[i]!.path)

describe('what is to be seen of a tree', () => {
  it('is all that lies in nothing folded', () => {
    expect(seen('')).toHaveLength(8)
    expect(seen('', ['db/bookings/sales'])).toEqual(TREE.map(({ path }) => path).filter((path) => !path.startsWith('db/bookings/sales/')))
    expect(seen('', ['db/bookings', 'db/bookings/sales'])).toEqual(['db/bookings', 'pier/kiosk', 'pier/kiosk/volume/receipts'])
  })

  it('is what is called so, with all that it lies in, folded or not', () => {
    expect(seen(' LEG ', ['db/bookings'])).toEqual([
      'db/bookings',
      'db/bookings/sales',
      'db/bookings/sales/booking_leg',
      'db/bookings/sales2',
      'db/bookings/sales2/old_leg',
    ])
    expect(seen('nothing')).toEqual([])
  })

  it('comes in the order of the tree, and is the same as when each thing is looked at alone', () => {
    const path = fc.array(fc.constantFrom('a', 'b', 'ab'), { minLength: 1, maxLength: 4 }).map((names) => names.join('/'))
    fc.assert(
      fc.property(fc.uniqueArray(path), fc.uniqueArray(path), (paths, folded) => {
        const all = new Set(paths.flatMap((path) => upwards(path)))
        const things = [...all]
          .sort((a, b) => (`${a}/` < `${b}/` ? -1 : 1))
          .map((name) => ({ path: name, name, isContainer: [...all].some((other) => other.startsWith(`${name}/`)) }))
        const alone = things.flatMap(({ path }, i) =>
          upwards(path)
            .slice(1)
            .some((above) => folded.includes(above))
            ? []
            : [i],
        )
        expect(seenOf(things, '', new Set(folded))).toEqual(alone)
      }),
    )
  })
})
