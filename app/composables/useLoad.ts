import { computed, onScopeDispose, shallowRef, toValue, watch, type MaybeRefOrGetter } from 'vue'
import { useLoads, type Load } from '~/stores/loads'

/**
 * Loads what an address answers, again when the address changes or `refresh` is called; shared with all who ask for the
 * same. Why it could not be loaded is told above the page, unless the component says that it `tells` so itself.
 */
export function useLoad<T>(url: MaybeRefOrGetter<string | null>, { tells = false } = {}) {
  const loads = useLoads()
  const load = shallowRef<Load | null>(null)
  let isLeft = false
  function take(address: string | null): void {
    if (isLeft) return
    if (load.value) loads.leave(load.value, tells)
    load.value = address === null ? null : loads.use(address, tells)
  }
  watch(() => toValue(url), take)
  // What is known already comes once the component is set up, so that whatever watches for it is there by then.
  queueMicrotask(() => take(toValue(url)))
  onScopeDispose(() => {
    isLeft = true
    if (load.value) loads.leave(load.value, tells)
  })
  return {
    data: computed(() => (load.value?.data.value ?? null) as T | null),
    error: computed(() => load.value?.error.value ?? null),
    pending: computed(() => load.value?.pending.value ?? false),
    refresh: async (): Promise<void> => load.value?.refresh(),
  }
}
