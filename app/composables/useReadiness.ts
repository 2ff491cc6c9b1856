import { createSharedComposable, watchDebounced } from '@vueuse/core'
import { shallowRef } from 'vue'
import type { ErrorRecord } from '~~/core/errors'
import type { MemberReadiness } from '~~/server/views'
import { useDraft } from '~/stores/draft'
import { errorOf, post } from '~/utils/api'
import { newestOf } from '~/utils/newest'

/** Whether the logs of what the rules of the draft take could be followed; null as long as that is not known. */
export const useReadiness = createSharedComposable(() => {
  const draft = useDraft()
  const readiness = shallowRef<MemberReadiness[] | null>(null)
  const trouble = shallowRef<ErrorRecord | null>(null)
  const begin = newestOf()
  async function ask() {
    const isNewest = begin()
    const body = { rules: draft.definition.rules, log: draft.definition.log, vessel: draft.slug }
    try {
      const answer = await post<MemberReadiness[]>('/api/readiness', body)
      if (!isNewest()) return
      readiness.value = answer
      trouble.value = null
    } catch (thrown) {
      // What was found for other rules says nothing of these.
      if (isNewest()) [readiness.value, trouble.value] = [null, errorOf(thrown)]
    }
  }
  watchDebounced([() => draft.definition.rules, () => draft.definition.log.structure], ask, { debounce: 400, deep: true, immediate: true })
  return { readiness, trouble }
})
