import { describe, expect, it } from 'vitest'
import { structure } from '../../tests/support/manifests'
import { noRenaming } from '../restore/sql'
import { columnInWords, compareStructures, renameStructure, structureText } from './structure'

const column = (name: string, over: object = {}) => ({ ...structure().columns[0]!, name, ...over })

describe('compareStructures', () => {
  it('marks every column, part and property, and nothing that is the same', () => {
    const before = structure({
      columns: [column('id'), column('fare', { type: 'numeric' })],
      indexes: [
        { name: 'leg_pkey', definition: 'btree (id)' },
        { name: 'old', definition: 'btree (fare)' },
      ],
      grants: ['clerk: SELECT'],
    })
    const now = structure({
      columns: [column('id'), column('fare', { type: 'money' }), column('extra')],
      indexes: [{ name: 'leg_pkey', definition: 'btree (id)' }],
      grants: ['clerk: SELECT'],
    })
    const marks = Object.fromEntries(compareStructures(before, now).map(({ what, name, mark }) => [`${what} ${name}`, mark]))
    expect(marks).toMatchObject({
      'column id': 'same',
      'column fare': 'changed',
      'column extra': 'new',
      'index leg_pkey': 'same',
      'index old': 'gone',
      'property grants': 'same',
    })
  })

  it('shows one side when the table is not there', () => {
    expect(compareStructures(structure(), null).every(({ mark }) => mark === 'gone')).toBe(true)
    expect(compareStructures(null, structure()).every(({ mark }) => mark === 'new')).toBe(true)
  })
})

describe('columnInWords', () => {
  it('says how a column gets its value', () => {
    expect(columnInWords(column('a', { nullable: true, default: 'now()' }))).toBe('integer default now()')
    expect(columnInWords(column('a', { identity: 'always' }))).toBe('integer not null generated always as identity')
    expect(columnInWords(column('a', { generated: true, default: 'b * 2', collation: 'pg_catalog."C"' }))).toBe(
      'integer collate pg_catalog."C" not null generated always as (b * 2) stored',
    )
  })
})

describe('renameStructure', () => {
  it('is what the server describes after the things have their new names', () => {
    const renaming = noRenaming()
    renaming.things.set('"sales"."leg"', { schema: 'sales', name: 'leg_then' })
    renaming.indexes.set('leg_pkey', 'leg_then_pkey')
    const before = structure({
      constraints: [{ name: 'leg_pkey', definition: 'PRIMARY KEY (id)' }],
      indexes: [{ name: 'leg_pkey', definition: 'CREATE UNIQUE INDEX leg_pkey ON sales.leg USING btree (id)' }],
    })
    const expected = structure({
      constraints: [{ name: 'leg_then_pkey', definition: 'PRIMARY KEY (id)' }],
      indexes: [{ name: 'leg_then_pkey', definition: 'CREATE UNIQUE INDEX leg_then_pkey ON sales.leg_then USING btree (id)' }],
    })
    expect(structureText(renameStructure(before, renaming))).toBe(structureText(expected))
  })
})
