import { describe, expect, it } from 'vitest'
import type { LostThing } from '../catalog/log-types'
import { goneInWords, toldInWords } from './loss-words'

const table = (name: string, more: Partial<LostThing> = {}): LostThing => ({
  path: `db/bookings/sales/${name}`,
  columns: null,
  rows: null,
  isAbout: false,
  ...more,
})

describe('what was lost', () => {
  it('is told with how many rows, as far as they are known', () => {
    const dropped = (tables: LostThing[], isThere = false) => toldInWords({ kind: 'dropped', tables }, isThere)
    expect(dropped([table('leg')])).toBe('sales.leg was dropped from db / bookings.')
    expect(dropped([table('leg', { rows: 1 })])).toBe('sales.leg was dropped from db / bookings, with 1 row.')
    expect(dropped([table('leg', { rows: 300, isAbout: true })])).toBe('sales.leg was dropped from db / bookings, with about 300 rows.')
    expect(dropped([table('leg', { rows: 5077 })], true)).toBe(
      'sales.leg in db / bookings was dropped, with 5,077 rows, and made anew without them.',
    )
    const five = ['a', 'b', 'c', 'd', 'e'].map((name) => table(name, { rows: 2 }))
    expect(dropped(five)).toBe('5 tables (a, b, c…) were dropped from db / bookings, with 10 rows.')
    expect(dropped([...five, table('f')])).toBe('6 tables (a, b, c…) were dropped from db / bookings.')
  })

  it('is told of rows and of columns alone', () => {
    const removed = (more: Partial<LostThing>) => toldInWords({ kind: 'removed', tables: [table('leg', more)] }, true)
    expect(removed({ rows: 40 })).toBe('40 rows of sales.leg in db / bookings were deleted.')
    expect(removed({ rows: 40, isAbout: true })).toBe('About 40 rows of sales.leg in db / bookings were deleted.')
    expect(removed({ rows: null })).toBe('sales.leg in db / bookings was emptied.')
    const columns = [table('leg', { columns: ['fare', 'port'] })]
    expect(toldInWords({ kind: 'columns', tables: columns }, true)).toBe(
      '2 columns of sales.leg in db / bookings were dropped: fare, port.',
    )
  })

  it('is told by its place where no log tells of it', () => {
    const gone = (paths: string[], more = {}) =>
      goneInWords({ place: 'db/bookings/sales', whole: null, paths, kinds: new Set(['table']), ...more })
    expect(gone(['db/bookings/sales/leg'])).toBe('sales.leg is gone from db / bookings.')
    expect(gone(['db/bookings/sales/leg', 'db/bookings/sales/note'])).toBe('2 tables of sales are gone from db / bookings: leg, note.')
    expect(gone(['db/bookings/sales/leg'], { whole: 'schema' })).toBe('The schema sales is gone from db / bookings.')
  })
})
