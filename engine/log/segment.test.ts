import { describe, expect, it } from 'vitest'
import { tablesOf } from './segment'

describe('what a transaction did to each table', () => {
  it('is told once of a table that was described twice, under its last name', () => {
    const ticket = { oid: 7, schema: 'public', name: 'ticket' }
    const relations = [ticket, { oid: 8, schema: 'public', name: 'leg' }, { ...ticket, name: 'pass' }]
    const tallies = { 0: [600, 1, 0, 0], 1: [1, 0, 0, 0], 2: [400, 0, 2, 1] } as Parameters<typeof tablesOf>[0]
    expect(tablesOf(tallies, relations)).toEqual([
      { name: 'public.pass', tally: [1000, 1, 2, 1] },
      { name: 'public.leg', tally: [1, 0, 0, 0] },
    ])
  })
})
