import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { isSelectable, isWithin, lastName, namesOf, parentOf, pathOf } from './thing'

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

  it('are decided over by rules from the things in a schema on', () => {
    expect(isSelectable('db/bookings/sales/leg')).toBe(true)
    expect(isSelectable('db/bookings/sales')).toBe(false)
    expect(isSelectable(pathOf('db', 'bookings', 'a/b'))).toBe(false)
  })
})
