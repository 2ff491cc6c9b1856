import { describe, expect, it } from 'vitest'
import type { TableManifest } from '../content/manifest'
import { lostBetween, lostColumns, massRemoved } from './losses'
import type { ChangeTally } from './log-text'

const deleted = (rows: number, inserted = 0): ChangeTally => [inserted, 0, rows, 0]
const emptied = (inserted = 0): ChangeTally => [inserted, 0, 0, 1]
const table = (oid: number, name: string, columns: string[] = ['id'], numbers = columns.map((_, i) => i + 1)) =>
  ({ oid, schema: 'sales', name, columns, numbers }) as TableManifest

describe('rows that a transaction took away', () => {
  it('are worth a word where they are a good part of their table, or very many', () => {
    expect(massRemoved(deleted(2000), 10_000)).toEqual({ rows: 2000 })
    expect(massRemoved(deleted(25), 30)).toEqual({ rows: 25 })
    expect(massRemoved(deleted(150_000), 90_000_000)).toEqual({ rows: 150_000 })
    expect(massRemoved(deleted(1500), null)).toEqual({ rows: 1500 })
  })
  it('are not where an application deletes them all the time', () => {
    expect(massRemoved(deleted(5), 10)).toBeNull()
    expect(massRemoved(deleted(400), 100_000)).toBeNull()
    expect(massRemoved(deleted(400), null)).toBeNull()
    expect(massRemoved([5000, 5000, 0, 0], 100)).toBeNull()
  })
  it('are not where they were put back at once', () => {
    expect(massRemoved(deleted(5000, 5000), 5000)).toBeNull()
    expect(massRemoved(emptied(4990), 5000)).toBeNull()
    expect(massRemoved(deleted(5000, 1000), 5000)).toEqual({ rows: 4000 })
  })
  it('are all that a table had that was emptied', () => {
    expect(massRemoved(emptied(), 4811)).toEqual({ rows: 4811 })
    expect(massRemoved(emptied(), 0)).toBeNull()
    expect(massRemoved(emptied(), null)).toEqual({ rows: null })
    expect(massRemoved(emptied(100), null)).toBeNull()
    expect(massRemoved(emptied(100), 5000)).toEqual({ rows: 4900 })
  })
})

describe('what went of a structure', () => {
  it('is a table, or columns of one, by their numbers', () => {
    const before = [table(1, 'booking'), table(2, 'leg', ['id', 'fare', 'port']), table(3, 'port')]
    const now = [table(2, 'stretch', ['id', 'harbour'], [1, 3]), table(4, 'booking')]
    expect(lostBetween(before, now, (oid) => oid === 3)).toEqual([
      { schema: 'sales', name: 'booking', columns: null },
      { schema: 'sales', name: 'leg', columns: ['fare'] },
    ])
  })
  it('is nothing where columns were renamed or added', () => {
    expect(lostColumns(table(1, 'leg', ['id', 'fare']), table(1, 'leg', ['id', 'price', 'port']))).toEqual([])
  })
})
