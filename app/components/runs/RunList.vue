<script setup lang="ts">
import type { DataColumn } from '~/components/base/DataTable.vue'
import type { RunRow } from '~~/server/views'

// Runs, newest first, more on demand.
const {
  query = '',
  withVessel = true,
  most = Infinity,
} = defineProps<{ query?: string; withVessel?: boolean; most?: number; empty: string }>()
const { data, error, refresh, pending } = useLoad<RunRow[]>(() => `/api/runs?${query}`, { tells: true })
onChange((change) => change.about === 'run', refresh, 1000)
const older = shallowRef<RunRow[]>([])
const PAGE = 60
const ended = ref(false)
watch(
  () => query,
  () => ((older.value = []), (ended.value = false)),
)
// New runs push the last ones off the first page; they go to the older ones, so that none is lost between the two.
watch(data, (fresh, before) => {
  if (older.value.length === 0 || !fresh || !before) return
  const first = new Set(fresh.map(({ id }) => id))
  // What is not like this any more, as one that has ended, stood above the last one, and is no older one.
  const last = fresh.at(-1)?.at ?? ''
  older.value = [...before.filter(({ id, at }) => !first.has(id) && at <= last), ...older.value]
})
const runs = computed(() => [...(data.value ?? []), ...older.value].slice(0, most))
const fail = useFailure()
async function more() {
  const last = runs.value.at(-1)!
  const next = await $fetch<RunRow[]>(`/api/runs?${query}&at=${last.at}&id=${last.id}`).catch(fail)
  if (!next) return
  older.value = [...older.value, ...next]
  ended.value = next.length < PAGE
}
const now = useTicking(1000)
const figures = (run: RunRow) => {
  const { bytes = 0 } = run.counters
  // With its manifests, once there is a point.
  const stored = (run.outcome?.stored as number | undefined) ?? run.counters.stored
  if (run.kind === 'verify') return `${bytesInWords(bytes)} read`
  if (run.kind === 'prune') return run.outcome ? prunedInWords(run.outcome) : ''
  if (run.kind === 'reindex') return `${plural(run.counters.packs ?? 0, 'file')} read`
  const added = stored !== undefined && run.kind === 'backup' ? `${bytesInWords(stored)} new` : ''
  return [movedInWords(run.counters), bytes > 0 ? bytesInWords(bytes) : '', added].filter(Boolean).join(', ')
}
/** Its name, what it moved, or why it failed. */
const saidOf = (run: RunRow) =>
  run.error ? run.error.what : [run.name === null ? '' : `“${run.name}”`, figures(run)].filter(Boolean).join(', ')
const COLUMNS: DataColumn<RunRow>[] = [
  { id: 'state', head: '', label: 'State', class: 'w-[30px]' },
  { id: 'kind', head: 'Run', always: true, class: 'w-[15%]' },
  { id: 'vessel', head: 'Vessel or store', class: 'w-[12%] pr-3' },
  { id: 'at', head: 'Started', class: 'w-[12%]' },
  { id: 'took', head: 'Duration', class: 'num w-[8%] pr-6 text-end' },
  { id: 'result', head: 'Result', always: true, class: 'pr-4' },
  { id: 'by', head: 'Started by', class: 'w-[14%]' },
]
const columns = computed(() => COLUMNS.filter(({ id }) => withVessel || id !== 'vessel'))
</script>

<template>
  <div>
    <ErrorNote v-if="error && !data" :error="error" />
    <div v-else-if="!data" class="grid gap-2"><USkeleton v-for="i in 8" :key="i" class="h-8 w-full" /></div>
    <p v-else-if="runs.length === 0" class="soft py-4 text-[13px]">{{ empty }}</p>
    <DataTable
      v-else
      name="runs"
      :rows="runs"
      :columns="columns"
      row-class="h-9 border-b border-[var(--line)] last:border-0 hover:bg-[var(--wash)]"
    >
      <template #state-cell="{ row: run }">
        <UIcon
          :name="RUN_STATE[run.state].icon"
          class="size-4 align-[-3px]"
          :class="{ 'animate-spin': run.state === 'running' }"
          :style="{ color: RUN_STATE[run.state].color }"
        />
      </template>
      <template #kind-cell="{ row: run }">
        <NuxtLink :to="`/runs/${run.id}`" class="font-medium hover:underline">{{ kindOfRun(run) }}</NuxtLink>
      </template>
      <template #vessel-cell="{ row: run }"
        ><div class="cut">
          <NuxtLink v-if="run.store" to="/stores" class="hover:underline">{{ run.store }}</NuxtLink>
          <NuxtLink v-else :to="`/vessels/${run.slug}`" class="hover:underline">{{ run.vessel }}</NuxtLink>
        </div></template
      >
      <template #at-cell="{ row: run }"
        ><span :title="fullOf(run.at)">{{ whenOf(run.at) }}</span></template
      >
      <template #took-cell="{ row: run }">{{ took(run, now) }}</template>
      <template #result-cell="{ row: run }"
        ><div class="cut" :title="saidOf(run)">
          <span :style="{ color: RUN_STATE[run.state].color }">{{ run.cancelling ? 'cancelling' : RUN_STATE[run.state].word }}</span><span
            class="soft"
            >{{ saidOf(run) && `${run.error ? ':' : ','} ${saidOf(run)}` }}</span
          >
        </div></template
      >
      <template #by-cell="{ row: run }"
        ><div class="soft cut" :title="starterOf(run)">{{ starterOf(run) }}</div></template
      >
    </DataTable>
    <UButton v-if="runs.length >= PAGE && !ended" class="mt-4" size="sm" :loading="pending" @click="more">Older runs</UButton>
  </div>
</template>
