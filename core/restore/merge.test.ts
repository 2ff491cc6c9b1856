import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { mergeStructures, type ReadStructure } from './merge'
import type { StructureEntry } from './structure'

const entry = (id: number, oid: number, name: string, more: Partial<StructureEntry> = {}): StructureEntry => ({
  id,
  catalog: 1259,
  oid,
  needs: [],
  name,
  type: 'TABLE',
  schema: 'public',
  owner: 'postgres',
  of: null,
  refers: null,
  sql: `create ${name}`,
  ownerSql: null,
  ...more,
})
const index = (id: number, oid: number, of: number, needs: number[], sql: string) =>
  entry(id, oid, `i${oid}`, { type: 'INDEX', of, needs, sql })
const read = (...entries: StructureEntry[]): ReadStructure => ({ entries, sequences: [] })
const sqlOf = (entries: StructureEntry[]) => entries.map(({ sql }) => sql)

describe('one structure out of two readings', () => {
  const before = read(entry(1, 10, 'a'), index(2, 11, 10, [1], 'index then'), entry(3, 20, 'b', { needs: [1], sql: 'b then' }))
  const after = read(entry(8, 20, 'b', { needs: [9], sql: 'b now' }), entry(9, 10, 'a renamed'), index(7, 12, 10, [9], 'index now'))

  it('takes each thing with all its parts from one of them', () => {
    const merged = mergeStructures(before, after, (thing) => (thing === '1259/10' ? 'before' : 'after'))
    expect(sqlOf(merged).sort()).toEqual(['b now', 'create a', 'index then'])
  })

  it('lets entries need each other across both, each after what it needs', () => {
    const merged = mergeStructures(before, after, (thing) => (thing === '1259/10' ? 'before' : 'after'))
    const table = merged.find(({ sql }) => sql === 'create a')!
    expect(merged.find(({ sql }) => sql === 'b now')!.needs).toEqual([table.id])
    expect(merged.indexOf(table)).toBeLessThan(merged.findIndex(({ sql }) => sql === 'b now'))
  })

  it('leaves out what was not there', () => {
    expect(sqlOf(mergeStructures(before, after, (thing) => (thing === '1259/20' ? null : 'before')))).toEqual(['create a', 'index then'])
  })

  it('has each entry once, under a number of its own, in an order in which it can be made', () => {
    const readings = fc.array(fc.record({ oid: fc.integer({ min: 1, max: 12 }), needs: fc.array(fc.nat(11), { maxLength: 3 }) }), {
      maxLength: 12,
    })
    fc.assert(
      fc.property(readings, readings, fc.infiniteStream(fc.constantFrom('before' as const, 'after' as const, null)), (a, b, choices) => {
        const structureOf = (list: typeof a, name: string) => {
          const known = new Set<number>()
          const rows = list.filter(({ oid }) => !known.has(oid) && known.add(oid))
          return read(
            ...rows.map(({ oid, needs }, i) =>
              entry(i + 1, oid, `${name}${oid}`, { needs: needs.filter((at) => at < i).map((at) => at + 1) }),
            ),
          )
        }
        const merged = mergeStructures(structureOf(a, 'a'), structureOf(b, 'b'), () => choices.next().value)
        expect(new Set(merged.map(({ id }) => id)).size).toBe(merged.length)
        expect(new Set(merged.map(({ oid }) => oid)).size).toBe(merged.length)
        const ids = new Set(merged.map(({ id }) => id))
        for (const { needs } of merged) for (const id of needs) expect(ids).toContain(id)
      }),
    )
  })
})
