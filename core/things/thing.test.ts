import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { countsWithin, isSelectable, isWithin, lastName, namesOf, parentOf, pathOf, upwards, withinAny } from './thing'

describe('paths', () => {
  it('give back every name that they were made of, whatever is in it', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ minLength: 1 }), { minLength: 1, maxLength: 5 }), (names) => {
        const path = pathOf(...names)
        expect(namesOf(path)).toEqual(names)
        expect(lastName(path)).toBe(names.at(-1))
        expect(parentOf(path)).toBe(names.length === 1 ? undefined : pathOf(...names.slice(0, -1)))
      }),
    )
  })

  it('lie within their containers, and not within what merely begins alike', () => {
    expect(isWithin('db/bookings/sales', 'db/bookings')).toBe(true)
    expect(isWithin('db/bookings', 'db/bookings')).toBe(true)
    expect(isWithin('db/bookings_old/sales', 'db/bookings')).toBe(false)
    expect(isWithin('db', 'db/bookings')).toBe(false)
  })

  /** Few names, so that paths meet; also ones that no source has, and files of volumes, whose root is the empty path. */
  const path = fc.array(fc.constantFrom('a', 'b', 'ab', ''), { maxLength: 4 }).map((names) => names.join('/'))

  it('lie in what is above them and in nothing else, and are told to be within many as within each', () => {
    fc.assert(
      fc.property(path, fc.array(path, { maxLength: 8 }), (single, others) => {
        expect(others.filter((other) => upwards(single).includes(other))).toEqual(others.filter((other) => isWithin(single, other)))
        expect(withinAny(others)(single)).toBe(others.some((other) => isWithin(single, other)))
      }),
    )
  })

  it('are counted wherever they lie', () => {
    fc.assert(
      fc.property(fc.array(path, { maxLength: 12 }), path, (paths, container) => {
        expect(countsWithin(paths).get(container) ?? 0).toBe(paths.filter((path) => isWithin(path, container)).length)
      }),
    )
  })

  it('are decided over by rules from the things in a schema on', () => {
    expect(isSelectable('db/bookings/sales/leg')).toBe(true)
    expect(isSelectable('db/bookings/sales')).toBe(false)
    expect(isSelectable(pathOf('db', 'bookings', 'a/b'))).toBe(false)
  })
})
