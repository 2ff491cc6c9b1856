import { describe, expect, it } from 'vitest'
import { entry, manifest, planInput, structure, table, target, wish } from '../../tests/support/manifests'
import { planRestore } from './plan'
import type { TargetState } from './target'
import { wishOf, type Wish } from './wish'

const leg = table('leg', 2)
const extension = entry(7, 'EXTENSION', 'ltree', { schema: null })
const held = manifest({
  tables: [leg],
  entries: [entry(100, 'SCHEMA', 'sales', { schema: null }), extension, entry(2, 'TABLE', 'leg', { needs: [100, 7] })],
  others: [
    { path: 'db/bookings/ltree', kind: 'extension', entry: 7 },
    { path: 'db/bookings/nosy (event trigger)', kind: 'event-trigger', entry: 8 },
  ],
})
held.entries.push(entry(8, 'EVENT TRIGGER', 'nosy', { schema: null }))
const may = { create: true, createDatabase: true, createRole: true, superuser: true, readLargeObjects: true }
const plan = (now: TargetState, wanted: Partial<Wish>) => planRestore(planInput(held, now, wanted))
const codes = (now: TargetState, wanted: Partial<Wish>) => plan(now, wanted).blockers.map(({ code }) => code)
const there = { extensions: new Set(['ltree']) }

describe('what keeps a restore from beginning', () => {
  it('is an extension that is not installed there', () => {
    expect(codes(target(), wish('leg'))).toEqual(['extension_missing'])
    expect(codes(target({ available: new Set(['ltree']) }), wish('leg'))).toEqual([])
    expect(codes(target(there), wish('leg'))).toEqual([])
  })

  it('is space that is not there', () => {
    const result = plan(target({ ...there, free: 1500 }), wish('leg'))
    expect(result.blockers.map(({ code }) => code)).toEqual(['no_space'])
    expect(result.checks.find(({ id }) => id === 'space')).toMatchObject({ outcome: 'missing' })
    expect(codes(target({ ...there, free: 3000 }), wish('leg'))).toEqual([])
  })

  it('is a privilege that the connecting role lacks', () => {
    expect(codes(target({ ...there, creatable: new Set() }), wish('leg'))).toEqual(['may_not_create'])
    const none = { ...target(there), exists: false, may: { ...may, createDatabase: false } }
    expect(codes(none, { ...wish('leg'), into: { mode: 'scratch', source: 'db', hours: 1 } })).toEqual(['may_not_create_database'])
    expect(codes(target({ ...there, may: { ...may, superuser: false } }), { picks: ['db/bookings/nosy (event trigger)'] })).toEqual([
      'superuser_needed',
    ])
    const roles = target({ ...there, roles: new Set(), may: { ...may, createRole: false } })
    expect(codes(roles, { ...wish('leg'), makeRoles: true })).toEqual(['may_not_create_role'])
  })

  it('is rows that do not fit the table of now, or a key that is none', () => {
    const other = structure({ columns: [{ ...structure().columns[0]!, type: 'text' }] })
    const into = (now: object, wanted: Partial<Wish>) => codes(target({ ...there, holds: { leg: now } }), { ...wish('leg'), ...wanted })
    expect(into({ structure: other }, { what: 'rows' })).toEqual(['other_structure'])
    expect(into({ structure: other }, {})).toEqual([])
    expect(into({ key: null }, { collide: 'merge' })).toEqual(['other_key'])
    expect(into({ key: ['note'] }, { rows: { [leg.path]: { keys: [['1']], overwrite: null } } })).toEqual(['other_key'])
    expect(codes(target(there), { ...wish('leg'), what: 'rows' })).toEqual(['table_missing'])
    const added = structure({ columns: [...structure().columns, { ...structure().columns[1]!, name: 'flag' }] })
    expect(into({ structure: added }, { what: 'rows' })).toEqual([])
  })

  it('is two things under one new name', () => {
    const twins = manifest({ tables: [leg, table('booking', 1)], entries: [] })
    const names = { [leg.path]: 'same', 'db/bookings/sales/booking': 'same' }
    const into = { mode: 'beside' as const, schema: null, prefix: '', suffix: '', names }
    const result = planRestore(planInput(twins, target(), wishOf({ picks: ['db/bookings/sales'], into })))
    expect(result.blockers.map(({ code }) => code)).toEqual(['name_twice', 'name_twice'])
  })
})

describe('what was looked at before', () => {
  it('is told line by line, with who holds what is overwritten', () => {
    const now = target({ ...there, holds: { leg: { heldBy: ['psql (process 12)'] } } })
    const { checks } = plan(now, wish('leg'))
    expect(checks.map(({ id, outcome }) => [id, outcome])).toEqual([
      ['privileges', 'ok'],
      ['names', 'ok'],
      ['extensions', 'ok'],
      ['roles', 'ok'],
      ['version', 'ok'],
      ['space', 'ok'],
      ['locks', 'advice'],
    ])
    expect(checks.at(-1)!.what).toContain('sales.leg is held by psql (process 12)')
    expect(plan(now, { picks: [] }).checks).toEqual([])
  })
})
