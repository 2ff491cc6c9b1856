import { describe, expect, it } from 'vitest'
import { pathOf } from '../things/thing'
import { entry, manifest, planInput, structure, table, target } from '../../tests/support/manifests'
import { planRestore } from './plan'
import { thingKey } from './sql'
import { CATALOG, type StructureEntry } from './structure'
import { definitionKey, type Dependent, type TargetState, type TypeUses } from './target'
import type { Wish } from './wish'

// Which types a restore in place drops and makes again, and with what.

const path = (...names: string[]) => pathOf('db', 'bookings', ...names)
const key = (name: string) => thingKey('sales', name)
const made = (id: number, name: string, sql: string, needs: number[] = [], type = 'TYPE') =>
  entry(id, type, name, { catalog: CATALOG.type, needs, sql: `${sql};` })

const MOOD = `CREATE TYPE sales.mood AS ENUM (\n    'calm',\n    'rough'\n)`
const before = manifest({
  tables: [table('sea', 1), table('passage', 2), table('apart', 3)],
  entries: [
    made(50, 'mood', MOOD),
    made(51, 'moods', 'CREATE DOMAIN sales.moods AS sales.mood[]', [50], 'DOMAIN'),
    entry(1, 'TABLE', 'sea', { needs: [50] }),
    entry(2, 'TABLE', 'passage', { needs: [51] }),
    entry(3, 'TABLE', 'apart'),
  ],
  others: [
    { path: path('sales', 'mood'), kind: 'type', entry: 50 },
    { path: path('sales', 'moods'), kind: 'type', entry: 51 },
  ],
})
const tableOf = (name: string, oid: number): Dependent => ({
  kind: 'table',
  catalog: 1259,
  oid,
  key: key(name),
  words: `table sales.${name}`,
})
const domain = { key: '1247/51', words: 'type sales.moods' }

/** What stands now: a label more than then. */
function now(mood: TypeUses, moods: TypeUses): TargetState {
  const standing = (was: StructureEntry, sql = was.sql): [string, StructureEntry[]] => [definitionKey(was), [{ ...was, sql }]]
  const [first, second, ...tables] = before.entries
  return target({
    holds: Object.fromEntries(before.tables.map(({ name }) => [name, { structure: structure() }])),
    others: new Set([key('mood'), key('moods')]),
    types: new Map([
      [key('mood'), mood],
      [key('moods'), moods],
    ]),
    definitions: new Map([
      standing(first!, MOOD.replace(`'rough'`, `'rough',\n    'stormy'`) + ';'),
      standing(second!),
      ...tables.map((table) => standing(table)),
    ]),
  })
}
const planned = (state: TargetState, wanted: Partial<Wish>) => {
  const plan = planRestore(planInput(before, state, wanted))
  const of = (name: string) => plan.operations.find((operation) => operation.path.endsWith(`/${name}`))!
  return { plan, of, how: (name: string) => [of(name)?.verb, of(name)?.how] }
}
const whole = { picks: [path()] }

describe('an enum that has a label more than then', () => {
  const uses: TypeUses = { dependents: [tableOf('sea', 1)], others: [domain] }
  const ofDomain: TypeUses = { dependents: [tableOf('passage', 2)], others: [] }

  it('is made again with what has it, in one group, and nothing else is', () => {
    const { plan, of, how } = planned(now(uses, ofDomain), whole)
    expect(['mood', 'moods', 'sea', 'passage', 'apart'].map(how)).toEqual([
      ['replace', 'rebuild'],
      ['replace', 'rebuild'],
      ['replace', 'rebuild'],
      ['replace', 'rebuild'],
      ['replace', 'refill'],
    ])
    const group = plan.groups.find(({ inner }) => inner.length > 0)!
    const names = (some: number[]) => some.map((i) => plan.operations[i]!.path.split('/').at(-1)).sort()
    expect([names(group.tables), names(group.inner)]).toEqual([
      ['passage', 'sea'],
      ['mood', 'moods'],
    ])
    expect(of('mood').notes).toEqual(['Dropped and made again as it was then, with 2 tables that have it, in one transaction.'])
    expect(of('sea').notes[0]).toContain('because mood is made again')
  })

  it('stays where a table that has it does not come back, or stays as it is, and says which', () => {
    const some = planned(now(uses, ofDomain), { picks: [path('sales', 'mood'), path('sales', 'moods'), path('sales', 'sea')] })
    expect([some.how('mood'), some.how('sea')]).toEqual([
      ['leave', null],
      ['replace', 'refill'],
    ])
    expect(some.of('mood').notes[0]).toContain('table sales.passage needs it')
    const skipped = planned(now(uses, ofDomain), { ...whole, each: { [path('sales', 'sea')]: 'skip' } })
    expect(skipped.of('mood').notes[0]).toContain('table sales.sea needs it')
  })

  it('stays where something of another kind needs it', () => {
    const operator = { key: '2617/99', words: 'operator sales.<<(sales.mood,sales.mood)' }
    const { how, of } = planned(now({ ...uses, others: [domain, operator] }, ofDomain), whole)
    expect([how('mood'), how('sea')]).toEqual([
      ['leave', null],
      ['replace', 'refill'],
    ])
    expect(of('mood').notes[0]).toContain('operator sales.<<')
  })

  it('is made again by itself where nothing has it, and stays where that is wished', () => {
    const free = { dependents: [], others: [] }
    expect(planned(now(free, ofDomain), whole).of('mood')).toMatchObject({ how: 'rebuild', when: 'before' })
    expect(planned(now(uses, ofDomain), { ...whole, collide: 'skip' }).how('mood')).toEqual(['leave', null])
  })
})
