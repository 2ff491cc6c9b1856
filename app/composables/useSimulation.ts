import { createSharedComposable, watchDebounced } from '@vueuse/core'
import { computed, onScopeDispose, shallowRef } from 'vue'
import { definitionTroubles } from '~~/core/plan/definition'
import { loggedPart } from '~~/core/selection/rules'
import type { Simulated } from '~~/core/plan/simulate'
import { NOTHING_MEASURED, sizesOf } from '~~/core/plan/sizes'
import { useDraft, type WholeDefinition } from '~/stores/draft'
import type { FromSimulation, ToSimulation } from '~/workers/simulation'

export const SIMULATED_DAYS = 365

/** What the plan that is being written will mean over a year, and what it was as saved. Reckoned in a worker, as it is typed. */
export const useSimulation = createSharedComposable(() => {
  const draft = useDraft()
  const result = shallowRef<FromSimulation | null>(null)
  let worker: Worker | null = null
  let turn = 0

  const store = computed(() => draft.stores?.find(({ name }) => name === draft.definition.store))
  const compressed = computed(() => (store.value && store.value.plain > 1e6 ? store.value.bytes / store.value.plain : null))
  const sizes = computed(() => {
    const { taken, than } = draft.selection ?? {}
    const takes = taken && than && than.bytes > 0 ? taken.bytes / than.bytes : 1
    return sizesOf(draft.sizes ?? NOTHING_MEASURED, taken?.bytes ?? 0, takes, compressed.value)
  })
  const planOf = (definition: WholeDefinition): Simulated | null => {
    const { schedule, retention, log, rules } = definition
    if (!schedule || definitionTroubles(definition).length > 0) return null
    const logSeconds = log.follow && loggedPart(rules) === 'all' ? log.everySeconds : null
    return { schedule, retention: retention ?? null, sizes: sizes.value, price: store.value?.price ?? null, logSeconds }
  }

  function begin(): Worker {
    const made = new Worker(new URL('../workers/simulation.ts', import.meta.url), { type: 'module' })
    // What was wished for before is not wanted any more.
    made.addEventListener('message', ({ data }: MessageEvent<FromSimulation>) => void (data.turn === turn && (result.value = data)))
    return made
  }
  watchDebounced(
    [() => draft.definition, sizes, store],
    () => {
      turn++
      const now = planOf(draft.definition)
      if (!now || sizes.value.plainBytes === 0) return void (result.value = null)
      worker ??= begin()
      const saved = draft.saved && draft.isChanged ? planOf(draft.saved) : null
      const message: ToSimulation = { turn, now, saved, from: Date.now(), days: SIMULATED_DAYS }
      // What is reactive can't be sent.
      worker.postMessage(JSON.parse(JSON.stringify(message)))
    },
    { debounce: 120, deep: true, immediate: true },
  )
  onScopeDispose(() => worker?.terminate())
  return { result, sizes, price: computed(() => store.value?.price ?? null) }
})
