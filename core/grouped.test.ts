import { describe, expect, it } from 'vitest'
import { inParts } from './grouped'

describe('many items', () => {
  it('come some at a time', () => {
    expect([...inParts([1, 2, 3, 4, 5], 2)]).toEqual([[1, 2], [3, 4], [5]])
    expect([...inParts([], 2)]).toEqual([])
  })
})
