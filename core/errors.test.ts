import { describe, expect, it } from 'vitest'
import { errorRecord, VesselError } from './errors'

describe('errorRecord', () => {
  it('keeps what a known error says, and its code', () => {
    const error = new VesselError('store_full', { what: 'It is full.', touched: 'Nothing.', next: 'Make space.', status: 507 })
    expect(errorRecord(error)).toEqual({ code: 'store_full', what: 'It is full.', touched: 'Nothing.', next: 'Make space.' })
    expect(error.status).toBe(507)
    expect(JSON.parse(JSON.stringify(error))).toEqual(errorRecord(error))
  })

  it('records anything else as internal, with its message and what is known of its reach', () => {
    expect(errorRecord(new Error('odd'), 'Nothing was changed.')).toMatchObject({ code: 'internal', touched: 'Nothing was changed.' })
    expect(errorRecord('thrown text').what).toContain('thrown text')
  })
})
