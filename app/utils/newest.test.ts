import { expect, it } from 'vitest'
import { newestOf } from './newest'

it('only the newest of several requests is wanted, until another one begins', () => {
  const [begin, other] = [newestOf(), newestOf()]
  const first = begin()
  expect(first()).toBe(true)
  const second = begin()
  other()
  expect([first(), second()]).toEqual([false, true])
})
