import { useThrottleFn } from '@vueuse/core'
import { onScopeDispose } from 'vue'
import type { Change } from '~~/server/views'

type Listener = (change: Change | { about: 'again' }) => void

const listeners = new Set<Listener>()
const SILENT_MS = 40_000

/** Tells everybody who listens of a change. */
export const tellChange: Listener = (change) => listeners.forEach((listener) => listener(change))

/**
 * Keeps the stream of changes open. Called once, by the application, which loads nothing before what comes back is
 * settled: what would change between a page's loading and the opening of the stream would never be told.
 */
export function useLive(): Promise<void> {
  const screen = useScreen()
  const loads = useLoads()
  let source: EventSource | undefined
  let heard = Date.now()
  /** Changes may have been told while nobody listened. */
  let missed = false
  const tell = (change: Change | { about: 'again' }) => {
    loads.forgetUnused()
    tellChange(change)
  }
  const alive = () => {
    heard = Date.now()
    screen.lost = null
    if (!missed) return
    missed = false
    tell({ about: 'again' })
  }
  const open = () => {
    source = new EventSource('/api/events')
    source.addEventListener('alive', alive)
    source.addEventListener('again', () => tell({ about: 'again' }))
    source.addEventListener('change', (event) => {
      alive()
      tell(JSON.parse(event.data) as Change)
    })
    source.onerror = () => {
      missed = true
      screen.lost ??= new Date()
    }
    return source
  }
  const openAgain = () => {
    source?.close()
    missed = true
    open()
  }
  // A page that the browser keeps for going back would hold its connection, of which a browser has only six.
  useEventListener(window, 'pagehide', () => source?.close())
  useEventListener(window, 'pageshow', (event: PageTransitionEvent) => event.persisted && openAgain())
  useIntervalFn(() => {
    if (source?.readyState !== EventSource.CLOSED && Date.now() - heard < SILENT_MS) return
    heard = Date.now()
    openAgain()
  }, 5000)
  onScopeDispose(() => source?.close())
  return settled(open())
}

/** Waits until a stream is open, or its connection was not made; that one is told of when it is. */
const settled = (source: EventSource) =>
  new Promise<void>((resolve) => {
    for (const event of ['alive', 'error']) source.addEventListener(event, () => resolve(), { once: true })
  })

/** Calls back for every change, as it comes. */
export function onEvent(listen: (change: Change) => void): void {
  const listener: Listener = (change) => change.about !== 'again' && listen(change)
  listeners.add(listener)
  onScopeDispose(() => listeners.delete(listener))
}

/** Calls back when something changed, and after a lost connection; at most once in `every` milliseconds. */
export function onChange(about: (change: Change) => boolean, refresh: () => unknown, every = 300): void {
  const throttled = useThrottleFn(refresh, every, true, true)
  const listener: Listener = (change) => {
    if (change.about === 'again' || about(change)) void throttled()
  }
  listeners.add(listener)
  onScopeDispose(() => listeners.delete(listener))
}
