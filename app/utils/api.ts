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

/** Whether a request may succeed by itself a little later: nobody answered, or not for a reason that lies in the request. */
export function isPassing(thrown: unknown): boolean {
  const { status } = thrown as { status?: number }
  return status === undefined || status >= 500
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
