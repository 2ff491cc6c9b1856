import type { ErrorRecord } from '~~/core/errors'

const NOT_KNOWN = 'Whether anything was changed is not known.'

/** What a failed request says; a server that does not answer, or answers oddly, and a fault of the page are told as such. */
export function errorOf(thrown: unknown): ErrorRecord {
  const { data, name, status, message } = thrown as { data?: { data?: ErrorRecord }; name?: string; status?: number; message?: string }
  if (data?.data?.code) return data.data
  if (status !== undefined)
    return {
      code: 'odd_answer',
      what: `Our own server answered with ${status}, and did not say why.`,
      touched: NOT_KNOWN,
      next: 'Look into its log; then try again.',
    }
  if (name === 'FetchError' || name === 'AbortError' || (name === 'TypeError' && /fetch|network/i.test(message ?? '')))
    return {
      code: 'no_answer',
      what: 'Our own server did not answer.',
      touched: 'Whether the request arrived is not known.',
      next: 'Look whether it runs; then try again.',
    }
  return { code: 'page_fault', what: `This page failed: ${message ?? String(thrown)}`, touched: NOT_KNOWN, next: 'Load the page again.' }
}

export function post<T>(url: string, body: object = {}, method: 'POST' | 'PUT' = 'POST'): Promise<T> {
  return $fetch(url, { method, body }) as Promise<T>
}

/** What an address gives as it is; throws what `errorOf` reads, where it gives an error instead. */
export async function bytesAt(url: string): Promise<Uint8Array> {
  const answer = await fetch(url)
  if (answer.ok) return new Uint8Array(await answer.arrayBuffer())
  throw Object.assign(new Error(url), { status: answer.status, data: await answer.json().catch(() => undefined) })
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
    if (address === null) {
      pending.value = false
      return
    }
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
      if (now !== before) [data.value, error.value] = [null, null]
      void refresh()
    },
    { immediate: true },
  )
  return { data, error, pending, refresh }
}
