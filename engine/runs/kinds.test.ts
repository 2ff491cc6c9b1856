import { describe, expect, it } from 'vitest'
import { RUN_KINDS } from '../catalog/types'
import { RUNS, type Begun } from './kinds'

/** A run of which nothing may be touched. */
const begun = new Proxy({} as Begun, {
  get: (_, name) => {
    throw new Error(`${String(name)} of the run was used`)
  },
})

describe('what a run was told', () => {
  it('is known for every kind', () => {
    expect(Object.keys(RUNS).sort()).toEqual([...RUN_KINDS].sort())
  })

  it.each([
    ['restore', { point: 'one' }, 'wish'],
    ['rehearsal', { wish: {} }, 'point'],
    ['restore', { point: 'one', wish: {}, unmakes: 'all' }, 'unmakes'],
    ['undo', { transaction: { member: 'ferry-db/bookings', position: '0/1' }, choices: {} }, 'transaction.end'],
    ['undo', { transaction: { member: 'a', position: '0/1', end: '0/2' }, choices: { table: { key: 'perhaps' } } }, 'choices.table.key'],
    ['hold', { still: { steps: [], budgetMs: 1 } }, 'quiesce'],
    ['hold', { quiesce: { steps: [{ id: 'one' }] } }, 'quiesce'],
    ['fetch', {}, 'point'],
    ['audit', { tables: { member: ['1'] } }, 'tables.member.0'],
    ['backup', { what: 'everything' }, 'what'],
  ] as const)('is not guessed where an older version wrote it otherwise: %s %j', async (kind, params, where) => {
    await expect(RUNS[kind](begun, params)).rejects.toMatchObject({
      code: 'params_unreadable',
      message: expect.stringContaining(`can’t be read: ${where}`),
      touched: 'Nothing was begun.',
    })
  })
})
