import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { useLoads } from './loads'

/** Requests that wait until they are answered here. */
class Server {
  readonly asked: { url: string; answer: (value: unknown) => void; fail: (thrown: unknown) => void; signal: AbortSignal }[] = []
  readonly fetch = (url: string, { signal }: { signal: AbortSignal }) =>
    new Promise((resolve, reject) => {
      signal.addEventListener('abort', () => reject(new Error('aborted')))
      this.asked.push({ url, answer: resolve, fail: reject, signal })
    })
}
const settled = () => vi.advanceTimersByTimeAsync(0)
const status = (code: number) => Object.assign(new Error(`${code}`), { name: 'FetchError', status: code })

let server: Server
beforeEach(() => {
  vi.useFakeTimers()
  setActivePinia(createPinia())
  server = new Server()
  vi.stubGlobal('$fetch', server.fetch)
})
afterEach(() => {
  vi.useRealTimers()
  vi.unstubAllGlobals()
})

describe('what an address answers', () => {
  it('is asked for once, however many show it', async () => {
    const loads = useLoads()
    const [load, other] = [loads.use('/a'), loads.use('/a')]
    expect(load).toBe(other)
    expect([server.asked.length, load.pending.value]).toEqual([1, true])
    server.asked[0]!.answer(1)
    await settled()
    expect([load.data.value, load.pending.value]).toEqual([1, false])
  })

  it('is asked for once more where something changed while a request was under way, and what was shown stays meanwhile', async () => {
    const load = useLoads().use('/a')
    let isDone = false
    void load.refresh().then(() => (isDone = true))
    void load.refresh()
    server.asked[0]!.answer('from before the change')
    await settled()
    expect([load.data.value, isDone, server.asked.length]).toEqual(['from before the change', false, 2])
    server.asked[1]!.answer('of now')
    await settled()
    expect([load.data.value, isDone, server.asked.length]).toEqual(['of now', true, 2])
  })

  it('is broken off when nobody shows it any more', () => {
    const loads = useLoads()
    const load = loads.use('/a')
    loads.use('/a')
    loads.leave(load)
    expect(server.asked[0]!.signal.aborted).toBe(false)
    loads.leave(load)
    expect(server.asked[0]!.signal.aborted).toBe(true)
    expect(load.error.value).toBeNull()
  })

  it('is there at once for who comes back, unless something changed since', async () => {
    const loads = useLoads()
    const first = loads.use('/a')
    server.asked[0]!.answer(1)
    await settled()
    loads.leave(first)
    const second = loads.use('/a')
    expect([second.data.value, server.asked.length]).toEqual([1, 2])
    server.asked[1]!.answer(2)
    await settled()
    loads.leave(second)
    loads.forgetUnused()
    expect(loads.use('/a').data.value).toBeNull()
  })

  it('is asked for by whoever comes while the request of one who left is broken off', async () => {
    const loads = useLoads()
    loads.leave(loads.use('/a'))
    const load = loads.use('/a')
    await settled()
    server.asked.at(-1)!.answer(1)
    await settled()
    expect([load.data.value, load.error.value, load.pending.value]).toEqual([1, null, false])
  })
})

describe('a request that fails', () => {
  it('is made again by itself where that may help, while what was known stays and it is told', async () => {
    const loads = useLoads()
    const load = loads.use('/a')
    server.asked[0]!.answer(1)
    await settled()
    void load.refresh()
    server.asked[1]!.fail(status(503))
    await settled()
    expect([load.data.value, load.error.value!.code, loads.failing.has(load)]).toEqual([1, 'odd_answer', true])
    await vi.advanceTimersByTimeAsync(1000)
    server.asked[2]!.fail(status(503))
    await vi.advanceTimersByTimeAsync(2000)
    expect(server.asked.length).toBe(4)
    server.asked[3]!.answer(2)
    await settled()
    expect([load.data.value, load.error.value, loads.failing.size]).toEqual([2, null, 0])
  })

  it('is not made again where the answer would be the same, or nobody waits for it', async () => {
    const loads = useLoads()
    const [missing, away] = [loads.use('/missing'), loads.use('/away')]
    server.asked[0]!.fail(status(404))
    server.asked[1]!.fail(status(503))
    await settled()
    expect([...loads.failing].map(({ url, mayPass }) => [url, mayPass])).toEqual([
      ['/missing', false],
      ['/away', true],
    ])
    loads.leave(away)
    await vi.advanceTimersByTimeAsync(60_000)
    expect([server.asked.length, loads.failing.size, missing.error.value!.code]).toEqual([2, 1, 'odd_answer'])
  })

  it('is made at once when a person wants it', async () => {
    const loads = useLoads()
    const load = loads.use('/a')
    server.asked[0]!.fail(new TypeError('Failed to fetch'))
    await settled()
    void loads.askNow()
    server.asked[1]!.answer(1)
    await settled()
    expect([load.data.value, loads.failing.size]).toEqual([1, 0])
    await vi.advanceTimersByTimeAsync(60_000)
    expect(server.asked.length).toBe(2)
  })
})
