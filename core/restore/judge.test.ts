import { describe, expect, it } from 'vitest'
import { entry, manifest, table } from '../../tests/support/manifests'
import { judgeStructure } from './judge'
import { othersOf } from './kinds'
import type { StructureEntry } from './structure'

function judged(entries: StructureEntry[], tables: string[] = []): string[] {
  const held = manifest({
    entries,
    tables: entries.filter(({ type, name }) => type === 'TABLE' && tables.includes(name)).map(({ name, oid }) => table(name, oid)),
    others: othersOf(entries, 'db', 'bookings', new Set()),
  })
  return judgeStructure('db', held, 150000).map(({ reason }) => reason)
}
const schema = entry(1, 'SCHEMA', 'sales', { schema: null, catalog: 2615 })
const made = (id: number, name: string, needs: number[]) => entry(id, 'FUNCTION', name, { catalog: 1255, needs })

describe('a structure that is captured', () => {
  it('is fine where each thing is made after what it needs', () => {
    expect(judged([])).toEqual([])
    expect(
      judged(
        [schema, entry(2, 'TABLE', 'leg', { needs: [1] }), made(3, 'of_leg()', [2]), entry(4, 'INDEX', 'leg_of', { of: 2, needs: [2, 3] })],
        ['leg'],
      ),
    ).toEqual([])
  })
  it('is told of what needs something that is made only after it', () => {
    const circle = [schema, made(2, 'a()', [1, 3]), made(3, 'b()', [1, 2])]
    expect(judged(circle)).toEqual([expect.stringContaining('function a() needs the function b()')])
  })
  it('is told of what nothing is known of, so that no restore makes it', () => {
    expect(judged([schema, entry(2, 'NOVELTY', 'thing', { needs: [1] })])).toEqual([
      expect.stringContaining('no restore makes the novelty thing'),
    ])
  })
  it('is none of it where the rules leave it', () => {
    expect(judged([schema, entry(2, 'TABLE', 'left', { needs: [1] })])).toEqual([])
  })
})
