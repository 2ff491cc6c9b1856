import { randomBytes } from 'node:crypto'
import { describe, expect, it } from 'vitest'
import { deriveKeys, keyCheck, matchesCheck } from './keys'
import { Semaphore } from './semaphore'

describe('the keys of a store', () => {
  it('follow from its key and its id, and are not each other', () => {
    const key = randomBytes(32)
    const [a, b, other] = [deriveKeys(key, 'a'), deriveKeys(key, 'a'), deriveKeys(key, 'b')]
    expect(a).toEqual(b)
    expect(a.name.equals(a.seal)).toBe(false)
    expect(a.name.equals(other.name)).toBe(false)
    expect(a.name).toHaveLength(32)
  })

  it('are known by their check, and a wrong key or a broken check is not', () => {
    const keys = deriveKeys(randomBytes(32), 'a')
    const check = keyCheck(keys, 'a')
    expect(matchesCheck(keys, 'a', check)).toBe(true)
    expect(matchesCheck(deriveKeys(randomBytes(32), 'a'), 'a', check)).toBe(false)
    expect(matchesCheck(keys, 'a', '')).toBe(false)
  })
})

describe('a semaphore', () => {
  it('lets so many in and no more, in the order in which they came', async () => {
    const gate = new Semaphore(2)
    const order: number[] = []
    let [inside, most] = [0, 0]
    const work = async (n: number) => {
      const leave = await gate.enter()
      most = Math.max(most, ++inside)
      order.push(n)
      await new Promise((resolve) => setImmediate(resolve))
      inside--
      leave()
      leave()
    }
    await Promise.all([0, 1, 2, 3, 4, 5].map(work))
    expect(most).toBe(2)
    expect(order).toEqual([0, 1, 2, 3, 4, 5])
    await gate.idle()
  })
})
