import { describe, expect, it } from 'vitest'
import { proofOf, provenInWords, provenPart, type ReceiptOutcome } from './receipt'

const line = (path: string, outcome: ReceiptOutcome, equal: boolean | null) => ({ path, outcome, equal })
const TABLE = line('ferry-db/bookings/sales/booking', 'made', true)
const VIEW = line('ferry-db/bookings/sales/full_legs', 'made', null)

describe('what a receipt proves', () => {
  it('is told of what was compared, not of what stands beside it', () => {
    expect(proofOf([TABLE, VIEW])).toEqual({ things: 2, equal: 1 })
    expect(provenInWords(proofOf([TABLE, VIEW]))).toBe('1 of 2 proven equal')
    expect(provenPart(proofOf([TABLE, VIEW]))).toBe('1 of 2 things')
    expect(provenInWords(proofOf([TABLE]))).toBe('proven equal')
    expect(provenPart(proofOf([TABLE]))).toBe('1 thing')
    expect(provenInWords(proofOf([VIEW]))).toBe('not compared')
    expect(provenInWords(proofOf([VIEW, { ...VIEW, path: `${VIEW.path}_2` }]))).toBe('none of them compared')
  })

  it('is nothing of what was left, has failed, differs or was only run', () => {
    const others = [
      line('ferry-db/bookings/sales/port', 'left', true),
      line('ferry-db/bookings/sales/fare', 'failed', null),
      line('count the berths', 'made', true),
    ]
    expect(proofOf(others)).toEqual({ things: 0, equal: 0 })
    expect(proofOf([{ ...TABLE, equal: false }])).toEqual({ things: 1, equal: 0 })
  })
})
