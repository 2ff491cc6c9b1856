<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { lackOf } from '~~/core/content/missing'
import { readRef } from '~~/core/chain/moment-ref'
import type { Lifeline, TableComparison, VesselView } from '~~/server/views'

const { vessel } = defineProps<{ vessel: VesselView }>()
useHead({ title: () => `Restore · ${vessel.name}` })
const route = useRoute()
const setQuery = useQuery()
const { data: lifeline, error: lifelineError } = useLoad<Lifeline>(() => `/api/vessels/${vessel.slug}/lifeline`, { tells: true })

const { point, chosen } = usePointChoice(() => vessel.slug, lifeline)
const choosePoint = (id: string) => setQuery({ point: id, at: undefined })

const bench = useWorkbench()
const { shown, lookable, missing, nowhere, saved, earlierError } = useRestoreAddress(() => vessel.slug, point)
const shownTable = computed(() => (lookable.value.some((thing) => thing.path === shown.value && isTable(thing)) ? shown.value : null))
/** The other point that rows are compared with; the source as it is now without one. */
const against = computed({
  get: () => (route.query.against ? String(route.query.against) : null),
  set: (id) => void setQuery({ against: id ?? undefined }),
})
const {
  data: comparison,
  error: comparisonError,
  pending: comparing,
  refresh: compareAgain,
} = useLoad<TableComparison>(
  () =>
    point.value && shownTable.value
      ? `${pointUrl(point.value)}/compare?path=${encodeURIComponent(shownTable.value)}${against.value ? `&against=${against.value}` : ''}`
      : null,
  { tells: true },
)

// A saved restore begins with the point that it was saved for.
watch(saved, (restore) => restore?.point && !route.query.point && !route.query.at && void setQuery({ point: restore.point.id }), {
  immediate: true,
})
/** What the point of a saved restore lacks, which has to be agreed to. */
const lack = computed(() => {
  const found = saved.value && lifeline.value?.points.find(({ id }) => id === point.value)
  return found ? lackOf(found) : null
})
const asItIs = ref(false)
watch(point, () => (asItIs.value = false))
const reason = ref('')
const failure = shallowRef<ErrorRecord | null>(null)
const sending = ref(false)
async function go(rehearsal: boolean) {
  sending.value = true
  failure.value = null
  try {
    const { id } = await post<{ id: string }>(`${pointUrl(point.value!)}/restore`, {
      wish: bench.wish!,
      reason: reason.value || null,
      rehearsal,
      agreed: bench.agreed,
      saved: saved.value?.id ?? null,
      asItIs: asItIs.value,
    })
    if (!rehearsal) bench.began()
    await navigateTo(`/runs/${id}`)
  } catch (thrown) {
    failure.value = errorOf(thrown)
    await bench.plan()
  } finally {
    sending.value = false
  }
}
onChange(
  (change) => change.about === 'things',
  () => (bench.refreshContents(), bench.plan(true), compareAgain()),
  2000,
)
</script>

<template>
  <main class="flex h-[calc(100vh-52px)] flex-col">
    <RestoreHead :vessel="vessel" :chosen="chosen" :lifeline="lifeline" @point="choosePoint" />
    <p v-if="nowhere" class="warning px-6 pt-2 text-[13px]">
      <span class="mono">{{ nowhere }}</span> is in no point of {{ vessel.name }}.
    </p>
    <p v-if="missing.length > 0" class="warning px-6 pt-2 text-[13px]" data-missing>
      Not in this point: <span class="mono">{{ missing.slice(0, 5).join(', ') }}</span><template v-if="missing.length > 5">
        and {{ missing.length - 5 }} more</template
      >.
    </p>
    <ErrorNote v-if="earlierError" :error="earlierError" class="mx-6 mt-2" />
    <ErrorNote v-if="lifelineError && !lifeline" :error="lifelineError" class="m-6" />
    <p v-else-if="lifeline && !point" class="soft p-6">Nothing can be restored: there is no point at or before this moment.</p>
    <ErrorNote v-else-if="bench.contentsError" :error="bench.contentsError" class="m-6" />
    <div v-else class="grid min-h-0 flex-1 grid-cols-[274px_minmax(0,1fr)_340px] max-[1150px]:grid-cols-[230px_minmax(0,1fr)_300px]">
      <RestoreTree v-model="shown" :comparison="comparison" />
      <RestoreCompare
        v-model:against="against"
        :points="lifeline?.points ?? []"
        :path="shown"
        :point="point"
        :comparison="comparison"
        :error="comparisonError"
        :pending="comparing"
        :at="chosen?.at ?? null"
        :there="bench.contents?.trouble ?? null"
      />
      <RestorePlan />
    </div>
    <RestoreFoot
      v-model:reason="reason"
      v-model:as-it-is="asItIs"
      :vessel="vessel"
      :point="chosen && !readRef(chosen.id) ? chosen : null"
      :lack="lack"
      :sending="sending"
      :failure="failure"
      @go="go"
    />
  </main>
</template>
