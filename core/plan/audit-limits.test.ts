import { describe, expect, it } from 'vitest'
import { auditOf, defaultLog, definitionTroubles, isAuditHour } from './definition'

const at = (hour: number) => new Date(Date.UTC(2026, 0, 1, hour, 30))
const hours = (from: number, to: number) => ({ megabytesPerSecond: 40, hours: { from, to } })

describe('limits of audits', () => {
  it('let tables have their turn at any hour, or between two, over midnight too', () => {
    expect(isAuditHour(auditOf(defaultLog(true)), at(3))).toBe(true)
    expect([0, 1, 4, 5].map((hour) => isAuditHour(hours(1, 5), at(hour)))).toEqual([false, true, true, false])
    expect([21, 22, 0, 5, 6].map((hour) => isAuditHour(hours(22, 6), at(hour)))).toEqual([false, true, true, true, false])
  })
  it('are refused in words where they make no sense', () => {
    const troubles = (audit: object) =>
      definitionTroubles({
        rules: [{ id: '1', act: 'take', kind: 'database', pattern: 'db/x' }],
        store: 's',
        promises: { couldLose: null, backWithin: null },
        readers: 1,
        log: { ...defaultLog(true), audit: audit as never },
      })
    expect(troubles(hours(1, 5))).toEqual([])
    expect(troubles(hours(5, 5))).toEqual([expect.stringContaining('two different whole hours')])
    expect(troubles({ megabytesPerSecond: 0, hours: null })).toEqual([expect.stringContaining('1 to 10,000 MB')])
  })
})
