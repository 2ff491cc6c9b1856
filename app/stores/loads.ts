import { defineStore } from 'pinia'
import { ref, shallowReactive, shallowRef } from 'vue'
import type { ErrorRecord } from '~~/core/errors'
import { errorOf, isPassing } from '~/utils/api'

// The one way in which pages get what the server knows: an address is asked once, however many components show what it
// answers; what was shown stays while it is asked again; what fails for now is tried again by itself.

const AGAIN_MS = [1000, 2000, 5000]
/** Of what nobody shows any more, so many answers are kept, until something changes. */
const KEPT = 40

/** What one address answers. */
export class Load {
  readonly data = shallowRef<unknown>(null)
  readonly error = shallowRef<ErrorRecord | null>(null)
  readonly pending = ref(false)
  /** Since when it fails. */
  failingSince: Date | null = null
  /** Whether it fails for a reason that may pass, so that it is asked again. */
  mayPass = false
  users = 0
  /** How many of its users tell themselves why it fails. */
  tellers = 0
  private going: Promise<void> | null = null
  private wanted = false
  private request = new AbortController()
  private tries = 0
  private timer: ReturnType<typeof setTimeout> | undefined

  constructor(
    readonly url: string,
    private readonly failing: Set<Load>,
  ) {}

  /** Asks again. While a request is under way, one more follows it: what it answers may be from before the change. */
  refresh(): Promise<void> {
    this.wanted = true
    return this.start()
  }

  /** Asks, unless that is under way. */
  start(): Promise<void> {
    clearTimeout(this.timer)
    // Nobody waited for the one that is under way any more.
    if (this.request.signal.aborted) this.wanted = true
    this.going ??= this.go()
    return this.going
  }

  /** Nobody shows it any more. */
  stop(): void {
    clearTimeout(this.timer)
    this.request.abort()
    this.failing.delete(this)
    this.failingSince = null
  }

  private async go(): Promise<void> {
    this.pending.value = true
    do {
      this.wanted = false
      await this.ask()
    } while (this.wanted && this.users > 0)
    this.going = null
    this.pending.value = false
  }

  private async ask(): Promise<void> {
    const request = (this.request = new AbortController())
    try {
      // Typed by whoever uses it; the types of all routes would be tried one by one here.
      const answer: unknown = await ($fetch as (url: string, options: object) => Promise<unknown>)(this.url, {
        signal: request.signal,
        retry: 0,
      })
      this.data.value = answer
      this.error.value = null
      this.tries = 0
      this.failingSince = null
      this.failing.delete(this)
    } catch (thrown) {
      if (request.signal.aborted) return
      this.error.value = errorOf(thrown)
      this.mayPass = isPassing(thrown)
      this.failingSince ??= new Date()
      this.failing.add(this)
      if (this.mayPass) this.againLater()
    }
  }

  private againLater(): void {
    this.timer = setTimeout(() => void this.start(), AGAIN_MS[Math.min(this.tries++, AGAIN_MS.length - 1)])
  }
}

export const useLoads = defineStore('loads', () => {
  const loads = new Map<string, Load>()
  /** What is asked for and could not be loaded. */
  const failing = shallowReactive(new Set<Load>())

  /**
   * What an address answers, for one component more. What is known of it is there at once, and asked for again.
   *
   * @param tells whether the component shows itself why it could not be loaded
   */
  function use(url: string, tells = false): Load {
    const load = loads.get(url) ?? new Load(url, failing)
    // What was used last comes last.
    loads.delete(url)
    loads.set(url, load)
    load.users++
    if (tells) load.tellers++
    void load.start()
    return load
  }

  function leave(load: Load, tells = false): void {
    if (tells) load.tellers--
    if (--load.users > 0) return
    load.stop()
    const unused = [...loads.values()].filter(({ users }) => users === 0)
    for (const { url } of unused.slice(0, Math.max(0, unused.length - KEPT))) loads.delete(url)
  }

  /** Something changed: what nobody shows would be told as it was. */
  function forgetUnused(): void {
    for (const [url, { users }] of loads) if (users === 0) loads.delete(url)
  }

  /** Asks again what somebody shows. */
  const refresh = (url: string): Promise<void> | undefined => {
    const load = loads.get(url)
    return load && load.users > 0 ? load.refresh() : undefined
  }
  const askNow = () => Promise.all([...failing].map((load) => load.start()))
  return { failing, use, leave, refresh, forgetUnused, askNow }
})
