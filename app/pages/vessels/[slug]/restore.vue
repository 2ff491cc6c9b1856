<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { lackOf } from '~~/core/content/missing'
import { readRef } from '~~/core/chain/instant-ref'
import { isPlain, type Wish } from '~~/core/restore/wish'
import { isWithin } from '~~/core/things/thing'
import type { Lifeline, TableComparison, VesselView } from '~~/server/views'

const { vessel } = defineProps<{ vessel: VesselView }>()
useHead({ title: () => `Restore · ${vessel.name}` })
const route = useRoute()
const setQuery = useQuery()
const { data: lifeline, error: lifelineError } = useLoad<Lifeline>(() => `/api/vessels/${vessel.slug}/lifeline`, { tells: true })

const { point, chosen } = usePointChoice(() => vessel.slug, lifeline)
const choosePoint = (id: string) => setQuery({ point: id, at: undefined })

const bench = useWorkbench(point)
/** What the address says. */
const asked = (name: string): string | null => (route.query[name] ? String(route.query[name]) : null)
/** Keys of single rows that the address names. */
function rowsAsked(): string[][] | null {
  try {
    const rows: unknown = JSON.parse(asked('rows') ?? 'null')
    return Array.isArray(rows) && rows.every((row) => Array.isArray(row)) ? (rows as string[][]) : null
  } catch {
    return null
  }
}
const shown = ref<string | null>(asked('show'))
/** What can be looked at then and now. */
const tables = computed(() => bench.things.value.filter((thing) => isTable(thing) || isObject(thing) || thing.kind === 'volume'))
/** What was asked for and is in no point. */
const fail = useFailure()
const nowhere = ref<string | null>(null)
const { wish: earlier, error: earlierError, saved } = useEarlierWish(() => vessel.slug)
/** What an earlier restore picked, and this point does not hold. */
const missing = computed(() => {
  const known = new Set(bench.things.value.map(({ path }) => path))
  if (!earlier.value || known.size === 0) return []
  return [...earlier.value.picks, ...Object.keys(earlier.value.cluster.files)].filter((path) => !known.has(path))
})
/** The earlier wish is taken over once; what is chosen after that is the person's. */
let isTaken = false
/** Goes to the newest point that holds what was asked for, where the one at hand does not. */
async function look(path: string) {
  const { point: holding } = await $fetch<{ point: string | null }>(`/api/vessels/${vessel.slug}/holding?path=${encodeURIComponent(path)}`)
  if (holding && holding !== point.value) await setQuery({ point: holding, at: undefined })
  else nowhere.value = path
}
watch(bench.things, (things) => {
  // While another point is loaded, what is shown stays.
  if (things.length === 0) return
  takeEarlier()
  const [pick, gone] = [asked('pick'), asked('gone')]
  if (gone && bench.picks.value.size === 0) bench.pickGone(gone)
  const wanted = pick && things.find((thing) => thing.path === pick)
  if (pick && !wanted && things.length > 0) void look(pick)
  if (wanted && bench.stateOf(wanted) === false) bench.toggle(wanted)
  const rows = rowsAsked()
  if (wanted && rows && !bench.choices.rows[wanted.path]) bench.pickRows(wanted.path, { keys: rows, overwrite: null })
  if (!shown.value || !tables.value.some(({ path }) => path === shown.value)) showFirst([pick ?? gone ?? ''])
})
/** Shows the first of what lies within some paths, and rather what is gone. */
function showFirst(within: string[]) {
  const candidates = tables.value.filter(({ path }) => within.some((one) => one === '' || isWithin(path, one)))
  shown.value = (candidates.find(({ there }) => there === false) ?? candidates[0] ?? tables.value[0])?.path ?? null
}
function takeEarlier() {
  if (isTaken || !earlier.value || bench.things.value.length === 0) return
  isTaken = true
  bench.take(earlier.value)
  if (!asked('show')) showFirst(earlier.value.picks)
}
watch(earlier, takeEarlier)
const beginRemembering = newestOf()
const lacksEarlier = () => !isTaken && (asked('wish') ?? asked('saved') ?? asked('again')) !== null
/** The address keeps what is chosen: one thing, or what is gone of a container, by its path, and all else under a short name. */
async function remember(wish: Wish | null, before: Wish | null | undefined) {
  // Before anything was ticked, the address says what is to be.
  if ((!wish && !before) || lacksEarlier()) return
  const isNewest = beginRemembering()
  const none = { pick: undefined, gone: undefined, rows: undefined, wish: undefined }
  const wasGone = asked('gone')
  if (!wish) return setQuery(none)
  if (isPlain(wish) && wasGone && bench.isJustGone(wasGone)) return setQuery({ ...none, gone: wasGone })
  if (isPlain(wish) && wish.picks.length === 1) return setQuery({ ...none, pick: wish.picks[0] })
  const choice = await post<{ id: string }>('/api/choices', { of: 'restore', wish }).catch(fail)
  if (choice && isNewest()) await setQuery({ ...none, wish: choice.id })
}
watchDebounced(bench.wish, remember, { debounce: 300 })
const shownTable = computed(() => (tables.value.some((thing) => thing.path === shown.value && isTable(thing)) ? shown.value : null))
/** The other point that rows are compared with; the source as it is now without one. */
const against = computed({
  get: () => asked('against'),
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
      ? `/api/points/${encodeURIComponent(point.value!)}/compare?path=${encodeURIComponent(shownTable.value)}${against.value ? `&against=${against.value}` : ''}`
      : null,
  { tells: true },
)

// A saved restore begins with the point that it was saved for.
watch(saved, (one) => one?.point && !route.query.point && !route.query.at && void setQuery({ point: one.point.id }), { immediate: true })
/** What the point of a saved restore lacks, which has to be agreed to. */
const lack = computed(() => {
  const own = saved.value && lifeline.value?.points.find(({ id }) => id === point.value)
  return own ? lackOf(own) : null
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
    const { id } = await post<{ id: string }>(`/api/points/${encodeURIComponent(point.value!)}/restore`, {
      wish: bench.wish.value!,
      reason: reason.value || null,
      rehearsal,
      agreed: bench.agreed.value,
      saved: saved.value?.id ?? null,
      asItIs: asItIs.value,
    })
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
  () => (bench.contents.refresh(), bench.plan(true), compareAgain()),
  2000,
)
</script>

<template>
  <main class="flex h-[calc(100vh-52px)] flex-col">
    <RestoreHead :vessel="vessel" :bench="bench" :chosen="chosen" :lifeline="lifeline" @point="choosePoint" />
    <p v-if="nowhere" class="ochre px-6 pt-2 text-[13px]">
      <span class="mono">{{ nowhere }}</span> is in no point of {{ vessel.name }}.
    </p>
    <p v-if="missing.length > 0" class="ochre px-6 pt-2 text-[13px]" data-missing>
      Not in this point: <span class="mono">{{ missing.slice(0, 5).join(', ') }}</span><template v-if="missing.length > 5">
        and {{ missing.length - 5 }} more</template
      >.
    </p>
    <ErrorNote v-if="earlierError" :error="earlierError" class="mx-6 mt-2" />
    <ErrorNote v-if="lifelineError && !lifeline" :error="lifelineError" class="m-6" />
    <p v-else-if="lifeline && !point" class="soft p-6">Nothing can be restored: there is no point at or before this moment.</p>
    <ErrorNote v-else-if="bench.contents.error.value" :error="bench.contents.error.value" class="m-6" />
    <div v-else class="grid min-h-0 flex-1 grid-cols-[274px_minmax(0,1fr)_340px] max-[1150px]:grid-cols-[230px_minmax(0,1fr)_300px]">
      <RestoreTree v-model="shown" :bench="bench" :comparison="comparison" />
      <RestoreCompare
        v-model:against="against"
        :bench="bench"
        :points="lifeline?.points ?? []"
        :path="shown"
        :point="point"
        :comparison="comparison"
        :error="comparisonError"
        :pending="comparing"
        :at="chosen?.at ?? null"
        :there="bench.contents.data.value?.trouble ?? null"
      />
      <RestorePlan :bench="bench" />
    </div>
    <RestoreFoot
      v-model:reason="reason"
      v-model:as-it-is="asItIs"
      :bench="bench"
      :vessel="vessel"
      :point="chosen && !readRef(chosen.id) ? chosen : null"
      :lack="lack"
      :sending="sending"
      :failure="failure"
      @go="go"
    />
  </main>
</template>
