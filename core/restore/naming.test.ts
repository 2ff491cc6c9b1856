import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { structure, table } from '../../tests/support/manifests'
import { besideName, fitName, freeName, renamingFor } from './naming'

const bytes = (text: string) => new TextEncoder().encode(text).length

describe('fitName', () => {
  it('keeps the ending, never exceeds what the server keeps, and never cuts inside a character', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme', maxLength: 90 }), fc.stringMatching(/^[a-z_0-9]{0,30}$/), (name, ending) => {
        const fitted = fitName(name, ending)
        expect(bytes(fitted)).toBeLessThanOrEqual(63)
        expect(fitted.endsWith(ending)).toBe(true)
        expect(name.startsWith(fitted.slice(0, fitted.length - ending.length))).toBe(true)
        expect(new TextDecoder().decode(new TextEncoder().encode(fitted))).toBe(fitted)
      }),
    )
  })
})

describe('freeName', () => {
  it('finds a name that is not taken, however many are', () => {
    const taken = new Set(['leg', 'leg_2', 'leg_3'])
    expect(freeName('leg', (name) => taken.has(name))).toBe('leg_4')
    const long = 'x'.repeat(63)
    expect(freeName(long, (name) => name === long)).toBe(`${'x'.repeat(61)}_2`)
  })
})

describe('besideName', () => {
  it('says the original, what happened, and the time of the point', () => {
    const at = new Date('2026-11-24T04:10:59Z')
    expect(besideName('booking_leg', 'dropped', at, () => false)).toBe('booking_leg_dropped_20261124_0410')
    const long = besideName('a'.repeat(80), 'changed', at, () => false)
    expect(long).toHaveLength(63)
    expect(long.endsWith('_changed_20261124_0410')).toBe(true)
  })
})

describe('renamingFor', () => {
  const part = (name: string) => ({ name, definition: '' })
  const leg = table('leg', 1, {
    structure: structure({ indexes: [part('leg_pkey'), part('by_booking')], statistics: [part('leg_stats')] }),
  })
  const sequences = [
    { schema: 'sales', name: 'leg_id_seq', last: '7', called: true, ownedBy: ['sales', 'leg'] as [string, string] },
    { schema: 'sales', name: 'ticket', last: '1', called: false, ownedBy: null },
  ]

  it('gives everything that belongs to the table a name of its own, and leaves the rest', () => {
    const renaming = renamingFor([{ table: leg, target: { schema: 'sales', name: 'leg_then' } }], sequences, () => false)
    expect(Object.fromEntries(renaming.indexes)).toEqual({ leg_pkey: 'leg_then_pkey', by_booking: 'leg_then_by_booking' })
    expect(renaming.things.get('"sales"."leg_id_seq"')).toEqual({ schema: 'sales', name: 'leg_then_id_seq' })
    expect(renaming.things.get('"sales"."leg_stats"')).toEqual({ schema: 'sales', name: 'leg_then_stats' })
    expect(renaming.things.has('"sales"."ticket"')).toBe(false)
  })

  it('passes over names that are taken, and gives none twice', () => {
    const copies = [1, 2].map((n) => ({ table: { ...leg, name: 'leg' }, target: { schema: 'pier', name: `copy${n}` } }))
    const renaming = renamingFor(copies, [], (_, name) => name === 'copy1_pkey')
    const names = [...renaming.things.values()].map(({ name }) => name)
    expect(new Set(names).size).toBe(names.length)
    expect(names).not.toContain('copy1_pkey')
  })

  it('renames nothing for a table that keeps its place', () => {
    const renaming = renamingFor([{ table: leg, target: { schema: 'sales', name: 'leg' } }], sequences, () => false)
    expect(renaming.things.size + renaming.indexes.size).toBe(0)
  })
})
