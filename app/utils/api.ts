import type { ErrorRecord } from '~~/core/errors'

/** What a failed request says; a server that does not answer is told as such. */
export function errorOf(thrown: unknown): ErrorRecord {
  const data = (thrown as { data?: { data?: ErrorRecord } }).data?.data
  if (data?.code) return data
  return {
    code: 'no_answer',
    what: 'Our own server did not answer.',
    touched: 'Whether the request arrived is not known.',
    next: 'Look whether it runs; then try again.',
  }
}

export function post<T>(url: string, body: object = {}, method: 'POST' | 'PUT' = 'POST'): Promise<T> {
  return $fetch(url, { method, body }) as Promise<T>
}

/** Loads what an address answers, again when the address changes or `refresh` is called. The newest request wins. */
export function useLoad<T>(url: MaybeRefOrGetter<string | null>) {
  const data = shallowRef<T | null>(null)
  const error = shallowRef<ErrorRecord | null>(null)
  const pending = ref(true)
  let turn = 0
  async function refresh(): Promise<void> {
    const address = toValue(url)
    const mine = ++turn
    if (address === null) return
    pending.value = true
    try {
      const answer = (await $fetch(address)) as T
      if (mine !== turn) return
      data.value = answer
      error.value = null
    } catch (thrown) {
      if (mine === turn) error.value = errorOf(thrown)
    } finally {
      if (mine === turn) pending.value = false
    }
  }
  watch(
    () => toValue(url),
    (now, before) => {
      if (now !== before) data.value = null
      void refresh()
    },
    { immediate: true },
  )
  return { data, error, pending, refresh }
}
