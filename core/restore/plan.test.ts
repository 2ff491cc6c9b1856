import { describe, expect, it } from 'vitest'
import type { DatabaseManifest } from '../content/manifest'
import { pathOf } from '../things/thing'
import { entry, manifest, structure, table, target, wish } from '../../tests/support/manifests'
import { definitionKey, planRestore, type TargetState, type Wish } from './plan'

const at = new Date('2026-11-24T04:10:00Z')
const plan = (held: DatabaseManifest, now: TargetState, wanted: Wish) =>
  planRestore({ source: 'db', manifest: held, target: now, wish: wanted, at })

const leg = table('leg', 2)
const booking = table('booking', 1)
const view = entry(9, 'VIEW', 'open_leg', { needs: [2] })
const held = manifest({
  tables: [booking, leg],
  entries: [
    entry(100, 'SCHEMA', 'sales', { schema: null }),
    entry(50, 'TYPE', 'state', { catalog: 1247, needs: [100] }),
    entry(1, 'TABLE', 'booking', { needs: [100] }),
    entry(2, 'TABLE', 'leg', { needs: [100, 50] }),
    view,
    entry(20, 'FK CONSTRAINT', 'leg leg_booking_fkey', { of: 2, refers: 1, needs: [1, 2] }),
  ],
  others: [
    { path: pathOf('db', 'bookings', 'sales'), kind: 'schema', entry: 100 },
    { path: pathOf('db', 'bookings', 'sales', 'state'), kind: 'type', entry: 50 },
    { path: pathOf('db', 'bookings', 'sales', 'open_leg'), kind: 'view', entry: 9 },
  ],
})
const withType = { others: new Set(['"sales"."state"']) }
const verbs = (of: ReturnType<typeof plan>) => of.operations.map(({ path, verb, how }) => [path.split('/').at(-1), verb, how])

describe('a table that is not there', () => {
  it('is made, and what went with it comes back after it', () => {
    const result = plan(held, target(withType), wish('leg'))
    expect(verbs(result)).toEqual([
      ['leg', 'make', 'create'],
      ['open_leg', 'make', 'create'],
    ])
    expect(result.operations[1]).toMatchObject({ along: 'went with leg', after: true })
    expect(result).toMatchObject({ rows: 10, bytes: 1000, overwrites: 0, blockers: [] })
  })

  it('brings along what it needs and what is missing too, before it', () => {
    const result = plan(held, target({ schemas: new Set(['public']) }), wish('leg'))
    expect(verbs(result).map(([name]) => name)).toEqual(['sales', 'state', 'leg', 'open_leg'])
    expect(result.operations.slice(0, 2).every((operation) => operation.along === 'leg needs it')).toBe(true)
  })
})

describe('a table that is there', () => {
  const now = target({ ...withType, holds: { leg: {} } })

  it('is emptied and filled while its structure is the same', () => {
    expect(plan(held, now, wish('leg')).operations[0]).toMatchObject({ verb: 'replace', how: 'refill', overwrites: 5 })
  })

  it('is made again when its structure is another', () => {
    const changed = target({ ...withType, holds: { leg: { structure: structure({ columns: structure().columns.slice(0, 1) }) } } })
    expect(plan(held, changed, wish('leg')).operations[0]).toMatchObject({ verb: 'replace', how: 'rebuild' })
  })

  it('is left, or comes back under another name, as is decided for all or for it', () => {
    expect(plan(held, now, { ...wish('leg'), collide: 'skip' }).operations[0]).toMatchObject({ verb: 'leave', rows: 0 })
    const renamed = plan(held, now, { ...wish('leg'), each: { [leg.path]: 'rename' } }).operations[0]!
    expect(renamed).toMatchObject({ verb: 'make', renamed: true, target: { schema: 'sales', name: 'leg_then_20261124_0410' } })
    expect(renamed.choices).toEqual(['replace', 'rename', 'skip'])
  })

  it('that others depend on blocks a rebuild, and says which', () => {
    const changed = target({ ...withType, holds: { leg: { structure: structure({ columns: [] }), dependents: ['view sales.open_leg'] } } })
    expect(plan(held, changed, wish('leg')).blockers).toMatchObject([{ code: 'others_depend', path: leg.path }])
    const same = target({ ...withType, holds: { leg: { dependents: ['view sales.open_leg'] } } })
    expect(plan(held, same, wish('leg')).blockers).toEqual([])
  })

  it('that the role does not own blocks', () => {
    expect(plan(held, target({ ...withType, holds: { leg: { mayReplace: false } } }), wish('leg')).blockers[0]!.code).toBe('not_owner')
  })
})

describe('things without rows', () => {
  it('that are there are left, and told apart by whether they are the same', () => {
    const there = { others: new Set(['"sales"."open_leg"', '"sales"."state"']), holds: { leg: {} } }
    const same = plan(held, target({ ...there, definitions: new Map([[definitionKey(view), view.sql]]) }), wish('open_leg'))
    expect(same.operations).toMatchObject([{ verb: 'leave', same: true }])
    const other = plan(held, target({ ...there, definitions: new Map([[definitionKey(view), 'CREATE VIEW other']]) }), wish('open_leg'))
    expect(other.operations).toMatchObject([{ verb: 'leave', same: false }])
  })

  it('stay with the original when tables go beside it', () => {
    const result = plan(held, target({ ...withType, holds: { leg: {} } }), {
      ...wish(),
      picks: ['db/bookings/sales'],
      into: { mode: 'beside', schema: null, names: {} },
    })
    expect(result.operations.filter(({ kind }) => kind !== 'table').every(({ verb }) => verb === 'leave')).toBe(true)
    expect(result.operations.some(({ kind }) => kind === 'schema')).toBe(false)
  })
})

describe('beside the original', () => {
  it('a name says what happened to the original, and is never one that is taken', () => {
    const into = { mode: 'beside' as const, schema: null, names: {} }
    const name = (now: TargetState) => plan(held, now, { ...wish('leg'), into }).operations[0]!.target.name
    expect(name(target(withType))).toBe('leg_dropped_20261124_0410')
    const taken = target({ ...withType, holds: { leg: {} } })
    taken.relations.add('"sales"."leg_then_20261124_0410"')
    expect(name(taken)).toBe('leg_then_20261124_0410_2')
  })

  it('a name of the person’s own is used, and refused when it is taken', () => {
    const names = { [leg.path]: 'booking' }
    const result = plan(held, target({ ...withType, holds: { booking: {} } }), {
      ...wish('leg'),
      into: { mode: 'beside', schema: null, names },
    })
    expect(result.operations[0]!.target).toEqual({ schema: 'sales', name: 'booking' })
    expect(result.blockers.map(({ code }) => code)).toEqual(['name_taken'])
  })

  it('a schema that is not there is told', () => {
    const result = plan(held, target(withType), { ...wish('leg'), into: { mode: 'beside', schema: 'nowhere', names: {} } })
    expect(result.blockers.map(({ code }) => code)).toContain('schema_missing')
  })
})

describe('groups', () => {
  it('hold tables that a foreign key binds, the referenced one first', () => {
    const result = plan(held, target(withType), wish('leg', 'booking'))
    const names = result.groups.map((group) => group.map((i) => result.operations[i]!.target.name))
    expect(names).toEqual([['booking', 'leg']])
  })

  it('do not hold what is left', () => {
    const result = plan(held, target({ ...withType, holds: { booking: {} } }), {
      ...wish('leg', 'booking'),
      each: { [booking.path]: 'skip' },
    })
    expect(result.groups.flat().map((i) => result.operations[i]!.target.name)).toEqual(['leg'])
  })
})

describe('an owner that the target does not know', () => {
  it('is told before anything is done', () => {
    expect(plan(held, target({ ...withType, roles: new Set() }), wish('leg')).warnings).toEqual([
      'The role app does not exist at the target; what it owned will belong to the connecting role.',
    ])
  })
})

it('is the same however often it is made', () => {
  const wanted = wish('leg', 'booking')
  expect(plan(held, target(withType), wanted)).toEqual(plan(held, target(withType), wanted))
})
