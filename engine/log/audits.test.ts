import { describe, expect, it } from 'vitest'
import { auditedUntil, auditWords, type TableAudit } from './audits'

const audit = (oid: number, minute: number, equal = true, position = `0/${minute}0`): TableAudit => ({
  oid,
  name: `t${oid}`,
  position,
  at: new Date(Date.UTC(2026, 0, 1, 10, minute)),
  equal,
})
const followed = (since: string | null) => ({ schema: 's', name: 't', since, born: false, why: null })

describe('a log', () => {
  it('is audited up to the oldest of the last audits, once each followed table has agreed', () => {
    const tables = { 1: followed('0/1'), 2: followed('0/1'), 3: followed(null) }
    expect(auditedUntil([audit(1, 5), audit(2, 3)], tables)).toEqual(new Date(Date.UTC(2026, 0, 1, 10, 3)))
    expect(auditedUntil([audit(1, 5)], tables)).toBeNull()
    expect(auditedUntil([audit(1, 5), audit(2, 7, false)], tables)).toBeNull()
    expect(auditedUntil([], {})).toBeNull()
  })
  it('says of a state how much of it was audited since', () => {
    expect(auditWords([audit(1, 5), audit(2, 3)], '0/40', [1, 2])).toContain(
      'of 1 was audited since and agreed with the source, last at 2026-01-01 10:05:00 UTC; 1 not yet',
    )
    expect(auditWords([audit(1, 5, false)], '0/40', [1])).toContain('not audited since')
  })
})
