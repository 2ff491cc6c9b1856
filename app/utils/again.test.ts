import { describe, expect, it } from 'vitest'
import { pageOfAgain, wishOfRun } from './again'

const run = (kind: Parameters<typeof pageOfAgain>[0]['kind'], params: Record<string, unknown>) => ({
  id: 'r',
  kind,
  slug: 'bookings',
  params,
})

describe('a run once more', () => {
  it('is decided on where it was decided on before, where it changes what stands', () => {
    const cases = [
      [run('restore', { point: 'p q', wish: {} }), '/vessels/bookings/restore?point=p+q&again=r'],
      [run('rehearsal', { point: 'p', wish: {} }), '/vessels/bookings/restore?point=p&again=r'],
      [run('restore', { point: 'p', wish: {}, takesBack: 'other' }), '/runs/other?take-back'],
      [
        run('undo', { transaction: { member: 'db/a b', position: '0/1', end: '0/2' } }),
        '/vessels/bookings/undo?member=db%2Fa+b&position=0%2F1&end=0%2F2',
      ],
    ] as const
    for (const [run, page] of cases) expect(pageOfAgain(run)).toBe(page)
  })

  it('is just started, where it changes nothing that stands', () => {
    for (const kind of ['backup', 'verify', 'audit', 'hold'] as const) expect(pageOfAgain(run(kind, {}))).toBeNull()
  })

  it('wishes what it wished, with what older runs did not say yet taken as usual', () => {
    expect(wishOfRun(run('restore', { wish: { picks: ['a'] } }))).toMatchObject({ picks: ['a'], collide: 'replace', rows: {} })
    expect(wishOfRun(run('backup', {}))).toBeNull()
  })
})
