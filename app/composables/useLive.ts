import type { Change } from '~~/server/views'

type Listener = (change: Change | { about: 'again' }) => void

const listeners = new Set<Listener>()
const SILENT_MS = 40_000

/** Whether our own server answers; since when not. */
export const useConnection = () => useState<{ lost: Date | null }>('connection', () => ({ lost: null }))

/** Keeps the stream of changes open. Called once, by the application. */
export function useLive(): void {
  const connection = useConnection()
  let source: EventSource | undefined
  let heard = Date.now()
  const tell = (change: Change | { about: 'again' }) => listeners.forEach((listener) => listener(change))
  const open = () => {
    source = new EventSource('/api/events')
    const alive = () => {
      heard = Date.now()
      if (!connection.value.lost) return
      connection.value = { lost: null }
      tell({ about: 'again' })
    }
    source.addEventListener('alive', alive)
    source.addEventListener('again', () => tell({ about: 'again' }))
    source.addEventListener('change', (event) => {
      alive()
      tell(JSON.parse(event.data) as Change)
    })
    source.onerror = () => (connection.value = { lost: connection.value.lost ?? new Date() })
  }
  onMounted(() => {
    open()
    // A page that the browser keeps for going back would hold its connection, of which a browser has only six.
    useEventListener(window, 'pagehide', () => source?.close())
    useEventListener(window, 'pageshow', (event: PageTransitionEvent) => {
      if (!event.persisted) return
      open()
      tell({ about: 'again' })
    })
    const watchdog = setInterval(() => {
      if (source?.readyState !== EventSource.CLOSED && Date.now() - heard < SILENT_MS) return
      source?.close()
      heard = Date.now()
      open()
    }, 5000)
    onScopeDispose(() => {
      clearInterval(watchdog)
      source?.close()
    })
  })
}

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
