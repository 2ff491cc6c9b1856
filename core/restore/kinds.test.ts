import { describe, expect, it } from 'vitest'
import { entry } from '../../tests/support/manifests'
import { othersOf } from './kinds'

describe('things without rows', () => {
  it('have paths of their own, told apart by their kind where names may be the same', () => {
    const entries = [
      entry(1, 'VIEW', 'open_leg'),
      entry(2, 'OPERATOR', '+++'),
      entry(3, 'OPERATOR', '+++'),
      entry(4, 'TEXT SEARCH CONFIGURATION', 'open_leg'),
      entry(5, 'DEFAULT ACL', 'DEFAULT PRIVILEGES FOR TABLES', { owner: 'app' }),
      entry(6, 'PUBLICATION', 'everything', { schema: null }),
      entry(7, 'INDEX', 'no_thing_of_its_own'),
      entry(8, 'MATERIALIZED VIEW', 'sums'),
      entry(9, 'USER MAPPING', 'USER MAPPING app SERVER far', { schema: null }),
    ]
    const others = othersOf(entries, 'db', 'bookings', new Set(['db/bookings/sales/sums']))
    expect(others.map(({ path }) => path.slice('db/bookings/'.length))).toEqual([
      'sales/open_leg',
      'sales/+++ (operator)',
      'sales/+++ (operator) 2',
      'sales/open_leg (text search configuration)',
      'sales/default privileges for tables of app',
      'everything (publication)',
      'sales/sums',
      'USER MAPPING app SERVER far',
    ])
    expect(others.find(({ kind }) => kind === 'materialized-view')).toMatchObject({ populated: true })
  })
})
