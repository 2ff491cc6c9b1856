import { randomBytes } from 'node:crypto'
import { describe, expect, it } from 'vitest'
import { deriveKeys, keyCheck, keyOfChunk, matchesCheck } from './keys'
import { Semaphore } from './semaphore'

describe('the keys of a store', () => {
  it('follow from its key and its id, and are not each other', () => {
    const key = randomBytes(32)
    const [a, b, other] = [deriveKeys(key, 'a', 3), deriveKeys(key, 'a', 3), deriveKeys(key, 'b', 3)]
    expect(a).toEqual(b)
    expect(a.name.equals(a.seal)).toBe(false)
    expect(a.name.equals(other.name)).toBe(false)
    expect(a.name).toHaveLength(32)
  })

  it('are another one for each chunk, in stores of the newest form', () => {
    const [old, now] = [deriveKeys(Buffer.alloc(32), 'a', 2), deriveKeys(Buffer.alloc(32), 'a', 3)]
    const [first, second] = [Buffer.alloc(32, 1), Buffer.alloc(32, 2)]
    expect(keyOfChunk(now.chunks, first).equals(keyOfChunk(now.chunks, second))).toBe(false)
    expect(keyOfChunk(old.chunks, first)).toEqual(keyOfChunk(old.chunks, second))
    expect(old.chunks.key).toEqual(now.seal)
    expect(now.chunks.key).not.toEqual(now.seal)
  })

  it('are known by their check, and a wrong key or a broken check is not', () => {
    const keys = deriveKeys(randomBytes(32), 'a', 3)
    const check = keyCheck(keys, 'a')
    expect(matchesCheck(keys, 'a', check)).toBe(true)
    expect(matchesCheck(deriveKeys(randomBytes(32), 'a', 3), 'a', check)).toBe(false)
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
