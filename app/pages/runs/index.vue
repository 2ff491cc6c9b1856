<script setup lang="ts">
useHead({ title: 'Runs · Unbroken Vessel' })
const route = useRoute()
const setQuery = useQuery()
const query = computed(() => {
  const wanted = new URLSearchParams()
  for (const name of ['kinds', 'states', 'vessel', 'from', 'to', 'text']) if (route.query[name]) wanted.set(name, String(route.query[name]))
  return wanted.toString()
})
const VIEWS = [
  ['list', 'List'],
  ['month', 'Month'],
  ['statistics', 'Statistics'],
] as const
type View = (typeof VIEWS)[number][0]
const view = computed<View>({
  get: () => VIEWS.find(([name]) => name === route.query.view)?.[0] ?? 'list',
  set: (name) => void setQuery({ view: name === 'list' ? undefined : name }),
})
</script>

<template>
  <main class="px-6 pt-[11px] pb-8">
    <div class="flex items-start justify-between gap-6">
      <PageSentence>{{
        view === 'month'
          ? 'How the runs of each day ended.'
          : view === 'statistics'
            ? 'Where the time of runs goes, and what they move.'
            : 'Everything that was backed up, restored, rehearsed and verified, newest first.'
      }}</PageSentence>
      <ChoiceBar v-model="view" :choices="VIEWS" label="How runs are shown" class="text-[13px]" />
    </div>
    <RunFilters :only-counted="view !== 'list'" />
    <RunMonth v-if="view === 'month'" />
    <RunStatistics v-else-if="view === 'statistics'" />
    <RunList v-else :query="query" empty="No run matches the filters." />
  </main>
</template>
