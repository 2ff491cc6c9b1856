<script setup lang="ts">
useHead({ title: 'Runs · Unbroken Vessel' })
const route = useRoute()
const query = computed(() => {
  const wanted = new URLSearchParams()
  for (const name of ['kinds', 'states', 'vessel', 'from', 'to', 'text']) if (route.query[name]) wanted.set(name, String(route.query[name]))
  return wanted.toString()
})
</script>

<template>
  <main class="px-6 pt-[11px] pb-8">
    <PageSentence>Everything that was backed up, restored, rehearsed and verified, newest first.</PageSentence>
    <RunFilters />
    <RunList :query="query" empty="No run matches the filters." />
  </main>
</template>
