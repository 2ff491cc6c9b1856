import { describe, expect, it } from 'vitest'
import { errorOf } from './api'

const fetchError = (more: object = {}) => Object.assign(new Error('a request failed'), { name: 'FetchError', ...more })
const told = { code: 'run_missing', what: 'There is no such run.', touched: 'Nothing was changed.', next: 'Look at the list of runs.' }

describe('what is told of something that failed', () => {
  it('is what the server said, where it said anything', () => {
    expect(errorOf(fetchError({ status: 404, data: { data: told } }))).toEqual(told)
  })

  it('tells a server that does not answer from one that answers oddly, and both from a fault of the page', () => {
    expect(errorOf(fetchError()).code).toBe('no_answer')
    expect(errorOf(new TypeError('Failed to fetch')).code).toBe('no_answer')
    const odd = errorOf(fetchError({ status: 502, data: '<html>' }))
    expect([odd.code, odd.what]).toEqual(['odd_answer', 'Our own server answered with 502, and did not say why.'])
    expect(errorOf(new TypeError('a is undefined')).code).toBe('page_fault')
    expect(errorOf(new RangeError('too deep'))).toMatchObject({ code: 'page_fault', what: 'This page failed: too deep' })
  })
})
