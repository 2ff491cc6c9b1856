<script setup lang="ts">
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
  if (run.kind === 'reindex') return `${plural(run.counters.packs ?? 0, 'file')} read`
  const added = stored !== undefined && run.kind === 'backup' ? `${bytesInWords(stored)} new` : ''
  return [movedInWords(run.counters), bytes > 0 ? bytesInWords(bytes) : '', added].filter(Boolean).join(', ')
}
/** Its name, what it moved, or why it failed. */
const saidOf = (run: RunRow) =>
  run.error ? run.error.what : [run.name === null ? '' : `“${run.name}”`, figures(run)].filter(Boolean).join(', ')
</script>

<template>
  <div>
    <ErrorNote v-if="error && !data" :error="error" />
    <div v-else-if="!data" class="grid gap-2"><USkeleton v-for="i in 8" :key="i" class="h-8 w-full" /></div>
    <p v-else-if="runs.length === 0" class="soft py-4 text-[13px]">{{ empty }}</p>
    <table v-else class="table-fixed text-[13px]">
      <colgroup>
        <col class="w-[30px]" />
        <col class="w-[15%]" />
        <col v-if="withVessel" class="w-[12%]" />
        <col class="w-[12%]" />
        <col class="w-[8%]" />
        <col />
        <col class="w-[14%]" />
      </colgroup>
      <thead>
        <tr class="h-[30px] border-b border-[var(--line)]">
          <th><span class="sr-only">State</span></th>
          <th>Run</th>
          <th v-if="withVessel">Vessel</th>
          <th>Started</th>
          <th class="num pr-6">Duration</th>
          <th>Result</th>
          <th>Started by</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="run in runs" :key="run.id" data-row class="h-9 border-b border-[var(--line)] last:border-0 hover:bg-[var(--wash)]">
          <td>
            <UIcon
              :name="RUN_STATE[run.state].icon"
              class="size-4 align-[-3px]"
              :class="{ 'animate-spin': run.state === 'running' }"
              :style="{ color: RUN_STATE[run.state].color }"
            />
          </td>
          <td>
            <NuxtLink :to="`/runs/${run.id}`" class="font-medium hover:underline">{{ kindOfRun(run) }}</NuxtLink>
          </td>
          <td v-if="withVessel" class="cut pr-3">
            <NuxtLink :to="`/vessels/${run.slug}`" class="hover:underline">{{ run.vessel }}</NuxtLink>
          </td>
          <td :title="fullOf(run.at)">{{ whenOf(run.at) }}</td>
          <td class="num pr-6">{{ took(run, now) }}</td>
          <td class="cut pr-4" :title="saidOf(run)">
            <span :style="{ color: RUN_STATE[run.state].color }">{{ run.cancelling ? 'cancelling' : RUN_STATE[run.state].word }}</span><span
              class="soft"
              >{{ saidOf(run) && `${run.error ? ':' : ','} ${saidOf(run)}` }}</span
            >
          </td>
          <td class="soft cut" :title="run.startedBy">{{ run.startedBy }}</td>
        </tr>
      </tbody>
    </table>
    <UButton v-if="runs.length >= PAGE && !ended" class="mt-4" size="sm" :loading="pending" @click="more">Older runs</UButton>
  </div>
</template>
