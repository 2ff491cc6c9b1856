import { describe, expect, it } from 'vitest'
import type { Standing } from '~~/server/views'
import { worstFirst } from './standing'

describe('a list of vessels', () => {
  it('has what needs somebody on top, then goes by names, and leaves what it was given as it was', () => {
    const given = (
      [
        ['Bookings', 'whole'],
        ['Archive', 'paused'],
        ['Crew rota', 'at risk'],
        ['Kiosks', 'broken'],
        ['Boarding gate', 'at risk'],
      ] as const
    ).map(([name, state]) => ({ name, state }) as Standing)
    expect(worstFirst(given).map(({ name }) => name)).toEqual(['Kiosks', 'Boarding gate', 'Crew rota', 'Bookings', 'Archive'])
    expect(given[0]!.name).toBe('Bookings')
  })
})
