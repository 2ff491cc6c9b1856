import { ref, shallowRef } from 'vue'
import type { ErrorRecord } from '~~/core/errors'
import { errorOf } from '~/utils/api'

/** What a dialog asks for: whether it is on its way, and what kept it from being done. */
export function useSending() {
  const sending = ref(false)
  const error = shallowRef<ErrorRecord | null>(null)
  /** @returns whether it was done */
  async function send(work: () => Promise<unknown>): Promise<boolean> {
    sending.value = true
    error.value = null
    try {
      await work()
      return true
    } catch (thrown) {
      error.value = errorOf(thrown)
      return false
    } finally {
      sending.value = false
    }
  }
  return { sending, error, send }
}
