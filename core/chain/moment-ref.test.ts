import { describe, expect, it } from 'vitest'
import { readRef, refAtPosition, refAtTime } from './moment-ref'

describe('readRef', () => {
  it('reads what was written, and nothing else', () => {
    expect(readRef(refAtTime('bookings', 1_732_500_000_123_456))).toEqual({ slug: 'bookings', micros: 1_732_500_000_123_456 })
    expect(readRef(refAtPosition('crew-rota', 'ferry-db', '16/B2A4'))).toEqual({
      slug: 'crew-rota',
      source: 'ferry-db',
      position: '16/B2A4',
      near: null,
    })
    expect(readRef(refAtPosition('crew-rota', 'ferry-db', '0/1', 1_732_500_000_123_456))).toMatchObject({
      source: 'ferry-db',
      position: '0/1',
      near: 1_732_500_000_123_456,
    })
    for (const text of ['8c0f1b1e-6f1e-4a53-9c7e-0a3f0f9f6a11', 'bookings~', 'bookings~t', 'bookings~p1-2', 'bookings~p1-2@x~db', 'a/b~t1'])
      expect(readRef(text)).toBeUndefined()
  })
})
