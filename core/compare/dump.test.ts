import { describe, expect, it } from 'vitest'
import { entry } from '../../tests/support/manifests'
import { dumpDifferences } from './dump'

const view = entry(1, 'VIEW', 'cranes', {
  sql: 'CREATE VIEW cranes AS\n SELECT 1;',
  owner: 'purser',
  ownerSql: 'ALTER VIEW cranes OWNER TO purser;',
})

describe('two dumps of a structure', () => {
  it('are the same whatever the numbers and the order of their entries, and whatever came to it', () => {
    const index = entry(2, 'INDEX', 'i', { sql: 'CREATE INDEX i' })
    expect(dumpDifferences([view, index], [{ ...index, id: 9 }, { ...view, id: 4, needs: [9] }, entry(5, 'VIEW', 'new')])).toEqual([])
  })
  it('differ by what is missing, by a line, by an owner', () => {
    expect(dumpDifferences([view], [])).toEqual([{ what: 'view sales.cranes', why: 'It is not there.', name: 'cranes' }])
    expect(dumpDifferences([view], [{ ...view, sql: 'CREATE VIEW cranes AS\n SELECT 2;' }])[0]!.why).toContain(
      '“SELECT 2;” instead of “SELECT 1;”',
    )
    expect(dumpDifferences([view], [{ ...view, owner: 'thief' }])[0]!.why).toBe('It belongs to thief, and belonged to purser.')
    expect(dumpDifferences([{ ...view, accessMethod: 'columnar' }], [view])).toHaveLength(1)
  })
})
