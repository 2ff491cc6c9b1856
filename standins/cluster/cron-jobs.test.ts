import { describe, expect, it } from 'vitest'
import { cronOf, dueAt } from './cron-jobs'

const at = (time: string) => new Date(`2026-11-24T${time}:00Z`)

describe('a cron job', () => {
  it('is due at the last of the times that have come since it started last', () => {
    const quarter = cronOf('*/15 * * * *')
    expect(dueAt(quarter, at('04:00'), at('04:14'))).toBeNull()
    expect(dueAt(quarter, at('04:00'), at('04:15'))).toEqual(at('04:15'))
    expect(dueAt(quarter, at('04:00'), at('05:07'))).toEqual(at('05:00'))
    expect(dueAt(quarter, at('05:00'), at('05:07'))).toBeNull()
  })

  it('goes by the clock of its time zone', () => {
    expect(dueAt(cronOf('30 2 * * *', 'Europe/Helsinki'), at('00:00'), at('00:31'))).toEqual(at('00:30'))
  })
})
