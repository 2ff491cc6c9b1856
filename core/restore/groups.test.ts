import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { entry, manifest, planInput, structure, table, target, wish } from '../../tests/support/manifests'
import { familyOf } from './groups'
import { planRestore } from './plan'

describe('familyOf', () => {
  it('takes partitions of partitions with the table, whatever their order', () => {
    const part = (name: string, oid: number, of: string) => table(name, oid, { structure: structure({ partitionOf: `"sales"."${of}"` }) })
    const tables = [part('year_q1', 3, 'year'), part('year', 2, 'payment'), table('payment', 1), table('other', 4)]
    const family = familyOf(manifest({ tables }), [tables[2]!])
    expect(family.map(({ name }) => name)).toEqual(['year_q1', 'year', 'payment'])
  })
})

describe('groups by foreign keys', () => {
  const names = ['a', 'b', 'c', 'd', 'e', 'f']
  const pair = fc.tuple(fc.nat(5), fc.nat(5))

  it('hold each table once, bound ones together, and referenced ones first unless they go in a circle', () => {
    fc.assert(
      fc.property(fc.array(pair, { maxLength: 10 }), (keys) => {
        const tables = names.map((name, i) => table(name, i + 1))
        const entries = [
          ...names.map((name, i) => entry(i + 1, 'TABLE', name)),
          ...keys.map(([from, to], i) => entry(100 + i, 'FK CONSTRAINT', `${names[from]} key${i}`, { of: from + 1, refers: to + 1 })),
        ]
        const plan = planRestore(planInput(manifest({ tables, entries }), target(), wish(...names)))
        const groups = plan.groups.map((group) => group.tables.map((i) => plan.operations[i]!.target.name))
        expect(groups.flat().sort()).toEqual(names)
        for (const [from, to] of keys) {
          const group = groups.find((candidate) => candidate.includes(names[from]!))!
          expect(group).toContain(names[to])
        }
        const acyclic = keys.every(([from, to]) => from > to || from === to)
        if (!acyclic) return
        for (const [from, to] of keys) {
          const group = groups.find((candidate) => candidate.includes(names[from]!))!
          expect(group.indexOf(names[to]!)).toBeLessThanOrEqual(group.indexOf(names[from]!))
        }
      }),
    )
  })
})
