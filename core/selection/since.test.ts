import { describe, expect, it } from 'vitest'
import type { Thing } from '../things/thing'
import { changesSince } from './since'

const table = (name: string, trouble?: string): Thing => ({
  path: `db/bookings/sales/${name}`,
  kind: 'table',
  labels: {},
  facts: trouble ? { trouble } : {},
})
const path = (name: string) => table(name).path

describe('what changed in what rules take since a point', () => {
  const before = new Set(['leg', 'fare', 'refund', 'odd operator'].map(path))
  const there = (of: string) => ({ [path('fare')]: false, [path('refund')]: true })[of]
  it('is new, gone, taken no more, or can’t be read, each thing once', () => {
    const taken = [table('leg'), table('voucher'), table('sealed', 'permission denied')]
    const unread = new Map([[path('map'), 'It is not bound.']])
    expect(changesSince(taken, before, unread, there)).toEqual({
      fresh: { count: 1, first: [path('voucher')] },
      gone: { count: 1, first: [path('fare')] },
      dropped: { count: 1, first: [path('refund')] },
      unreadable: {
        count: 2,
        first: [
          { path: path('map'), why: 'It is not bound.' },
          { path: path('sealed'), why: 'permission denied' },
        ],
      },
    })
  })
  it('names a few, and counts all', () => {
    const many = Array.from({ length: 1000 }, (_, i) => table(`t${i}`))
    const { fresh } = changesSince(many, new Set(), new Map(), () => undefined)
    expect([fresh.count, fresh.first.length]).toEqual([1000, 20])
  })
})
