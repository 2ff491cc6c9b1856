import { describe, expect, it } from 'vitest'
import type { DatabaseManifest } from '../content/manifest'
import { pathOf } from '../things/thing'
import { entry, manifest, planInput, structure, table, target, wish } from '../../tests/support/manifests'
import { planRestore } from './plan'
import { definitionKey, type TargetState } from './target'
import type { Wish } from './wish'

const plan = (held: DatabaseManifest, now: TargetState, wanted: Partial<Wish>) => planRestore(planInput(held, now, wanted))
const beside = { mode: 'beside' as const, schema: null, prefix: '', suffix: '', names: {} }

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
    const result = plan(held, target({ ...withType, holds: { booking: {} } }), wish('leg'))
    expect(verbs(result)).toEqual([
      ['leg', 'make', 'create'],
      ['open_leg', 'make', 'create'],
    ])
    expect(result.operations[1]).toMatchObject({ along: 'went with leg', when: 'after' })
    expect(result).toMatchObject({ rows: 10, bytes: 1000, overwrites: 0, blockers: [] })
  })

  it('brings along what it needs and what is missing too, before it', () => {
    const result = plan(held, target({ schemas: new Set(['public']) }), wish('leg'))
    expect(verbs(result).map(([name]) => name)).toEqual(['sales', 'state', 'booking', 'leg', 'open_leg'])
    expect(result.operations.slice(0, 3).every((operation) => operation.along === 'leg needs it')).toBe(true)
  })

  it('finds what it needs at the target, and leaves at home what the person wants left', () => {
    const now = target({ schemas: new Set(['sales', 'public']) })
    const state = pathOf('db', 'bookings', 'sales', 'state')
    expect(plan(held, target({ ...withType, holds: { booking: {} } }), wish('leg')).found).toEqual([booking.path, state])
    const without = plan(held, now, { ...wish('leg'), without: [state, booking.path] })
    expect(without.blockers).toMatchObject([{ code: 'need_missing', path: state }])
    expect(without.warnings[0]).toMatch(/leg refers to booking/)
  })
})

describe('a table that is there', () => {
  const now = target({ ...withType, holds: { leg: {} } })

  it('is emptied and filled while its structure is the same', () => {
    expect(plan(held, now, wish('leg')).operations[0]).toMatchObject({ verb: 'replace', how: 'refill', overwrites: 5 })
  })

  it('is made again when its structure is another', () => {
    const changed = target({
      ...withType,
      holds: { booking: {}, leg: { structure: structure({ columns: structure().columns.slice(0, 1) }) } },
    })
    expect(plan(held, changed, wish('leg')).operations[0]).toMatchObject({ verb: 'replace', how: 'rebuild' })
  })

  it('is never overwritten by a decision that means something else', () => {
    const at = (wanted: Partial<Wish>) =>
      plan(held, target({ ...withType, holds: { booking: {}, leg: {} } }), { ...wish('leg'), ...wanted }).operations[0]!
    expect(at({ what: 'rows', collide: 'rename' })).toMatchObject({ verb: 'leave', overwrites: null })
    expect(at({ what: 'structure', collide: 'merge' })).toMatchObject({ verb: 'leave', overwrites: null })
    expect(at({ what: 'structure', rows: { [leg.path]: { keys: [['1']], overwrite: ['note'] } } })).toMatchObject({
      verb: 'leave',
      same: true,
    })
    expect(at({ collide: 'merge' })).toMatchObject({ verb: 'merge', how: 'merge', overwrites: null })
    const objects = [{ oid: 7, owner: 'app', comment: null, grants: [] }]
    const large = { path: 'db/bookings/large objects', objects, rows: 1, bytes: 9, fingerprint: '', chunks: [] }
    const full = manifest({ ...held, largeObjects: large })
    const what = (collide: Wish['collide'], there = [7]) =>
      plan(full, target({ largeObjects: new Set(there) }), { picks: [large.path], collide }).operations.map(({ verb, how }) => [verb, how])
    expect(what('replace')).toEqual([['replace', 'refill']])
    expect(what('merge')).toEqual([['merge', 'merge']])
    expect(what('rename')).toEqual([['leave', null]])
    expect(what('rename', [])).toEqual([['make', 'create']])
  })

  it('is left, or comes back under another name, as is decided for all or for it', () => {
    expect(plan(held, now, { ...wish('leg'), collide: 'skip' }).operations[0]).toMatchObject({ verb: 'leave', rows: 0 })
    const renamed = plan(held, now, { ...wish('leg'), each: { [leg.path]: 'rename' } }).operations[0]!
    expect(renamed).toMatchObject({ verb: 'make', renamed: true, target: { schema: 'sales', name: 'leg_then_20261124_0410' } })
    expect(renamed.choices).toEqual(['replace', 'rename', 'merge', 'skip'])
  })

  it('that others stand upon is made again with them; tables in the way block, and are named', () => {
    const over = { kind: 'view' as const, catalog: 1259, oid: 9, key: '"sales"."open_leg"', words: 'view sales.open_leg' }
    const child = { kind: 'table' as const, catalog: 1259, oid: 8, key: '"sales"."leg_child"', words: 'table sales.leg_child' }
    const at = (dependents: (typeof over | typeof child)[], columns = structure().columns.slice(0, 1)) =>
      target({
        others: new Set(['"sales"."state"', '"sales"."open_leg"']),
        holds: { booking: {}, leg: { structure: structure({ columns }), dependents } },
      })
    const rebuilt = plan(held, at([over]), wish('leg'))
    expect(rebuilt.blockers).toEqual([])
    expect(rebuilt.operations[0]!.rebuilds).toEqual([over])
    expect(plan(held, at([over, child]), wish('leg')).blockers).toMatchObject([{ code: 'others_depend', path: leg.path }])
    expect(plan(held, at([over, child], structure().columns), wish('leg')).blockers).toEqual([])
  })

  it('that the role does not own blocks', () => {
    expect(plan(held, target({ ...withType, holds: { leg: { mayReplace: false } } }), wish('leg')).blockers[0]!.code).toBe('not_owner')
  })
})

describe('things without rows', () => {
  it('that are there are left, and told apart by whether they are the same', () => {
    const there = { others: new Set(['"sales"."open_leg"', '"sales"."state"']), holds: { leg: {} } }
    const same = plan(held, target({ ...there, definitions: new Map([[definitionKey(view), [view]]]) }), wish('open_leg'))
    expect(same.operations).toMatchObject([{ verb: 'leave', same: true }])
  })

  it('that are there with another definition are replaced by default, and skipped by choice', () => {
    const now = target({
      others: new Set(['"sales"."open_leg"', '"sales"."state"']),
      holds: { leg: {} },
      definitions: new Map([[definitionKey(view), [{ ...view, sql: 'CREATE VIEW other' }]]]),
      dependents: new Map([
        ['"sales"."open_leg"', [{ kind: 'view', catalog: 1259, oid: 77, key: '"sales"."over_it"', words: 'view sales.over_it' }]],
      ]),
    })
    const replaced = plan(held, now, wish('open_leg')).operations[0]!
    expect(replaced).toMatchObject({ verb: 'replace', how: 'rebuild', choices: ['replace', 'rename', 'skip'] })
    expect(replaced.rebuilds.map(({ words }) => words)).toEqual(['view sales.over_it'])
    const skipped = plan(held, now, { ...wish('open_leg'), collide: 'skip' }).operations[0]!
    expect(skipped).toMatchObject({ verb: 'leave', same: false })
    // A type that tables may use can't be taken away, so it stays.
    const state = entry(50, 'TYPE', 'state')
    expect(
      plan(held, { ...now, definitions: new Map([[definitionKey(state), [{ ...state, sql: 'CREATE TYPE other' }]]]) }, wish('state'))
        .operations[0],
    ).toMatchObject({
      verb: 'leave',
      choices: ['rename', 'skip'],
    })
  })
})

describe('beside the original', () => {
  it('a name says what happened to the original, and is never one that is taken', () => {
    const into = beside
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
      into: { ...beside, names },
    })
    expect(result.operations[0]!.target).toEqual({ schema: 'sales', name: 'booking' })
    expect(result.blockers.map(({ code }) => code)).toEqual(['name_taken'])
  })

  it('a schema that is not there is made first, where that is allowed', () => {
    const into = { ...beside, schema: 'nowhere' }
    const result = plan(held, target(withType), { ...wish('leg'), into })
    expect(verbs(result)[0]).toEqual(['nowhere', 'make', 'create'])
    expect(result.blockers).toEqual([])
    const may = { create: false, createDatabase: false, createRole: false, superuser: false, readLargeObjects: true }
    expect(plan(held, target({ ...withType, may }), { ...wish('leg'), into }).blockers.map(({ code }) => code)).toContain(
      'may_not_create_schema',
    )
  })

  it('views, functions and types get names of their own too; what has one place only is left', () => {
    const result = plan(held, target({ ...withType, holds: { leg: {} } }), {
      picks: ['db/bookings/sales'],
      into: { ...beside, suffix: '_old' },
    })
    const by = new Map(result.operations.map((operation) => [operation.path.split('/').at(-1), operation]))
    expect(by.get('leg')!.target).toEqual({ schema: 'sales', name: 'leg_old' })
    expect(by.get('open_leg')).toMatchObject({ verb: 'make', renamed: true, target: { schema: 'sales', name: 'open_leg_old' } })
    expect(by.get('state')!.target.name).toBe('state_old')
    expect(by.get('sales')!.verb).toBe('leave')
  })
})

describe('groups', () => {
  it('hold tables that a foreign key binds, the referenced one first', () => {
    const result = plan(held, target(withType), wish('leg', 'booking'))
    const names = result.groups.map((group) => group.tables.map((i) => result.operations[i]!.target.name))
    expect(names).toEqual([['booking', 'leg']])
  })

  it('do not hold what is left', () => {
    const result = plan(held, target({ ...withType, holds: { booking: {} } }), {
      ...wish('leg', 'booking'),
      each: { [booking.path]: 'skip' },
    })
    expect(result.groups.flatMap((group) => group.tables).map((i) => result.operations[i]!.target.name)).toEqual(['leg'])
  })
})

describe('an owner that the target does not know', () => {
  it('is told before anything is done', () => {
    expect(plan(held, target({ ...withType, roles: new Set() }), wish('leg')).warnings).toEqual([
      'The role app does not exist at the target; what it owned will belong to the connecting role; rights and policies for it are left out.',
    ])
  })

  it('is mapped to another, or made, by choice', () => {
    const now = target({ ...withType, roles: new Set(['clerk']) })
    expect(plan(held, now, { ...wish('leg'), roles: { app: 'clerk' } }).warnings).toEqual([])
    const made = plan(held, now, { ...wish('leg'), makeRoles: true })
    expect(made.operations[0]).toMatchObject({ kind: 'role', verb: 'make', target: { name: 'app' } })
    expect(made.warnings).toEqual([])
  })
})

it('is the same however often it is made', () => {
  const wanted = wish('leg', 'booking')
  expect(plan(held, target(withType), wanted)).toEqual(plan(held, target(withType), wanted))
})
