<script setup lang="ts">
import type { Standing } from '~~/server/views'

useHead({ title: 'Vessels · Unbroken Vessel' })
const route = useRoute()
const { data, error, refresh } = useLoad<Standing[]>('/api/vessels')
onChange((change) => change.about !== 'estate', refresh, 1500)
const now = useTicking()
const state = computed(() => route.query.state as Standing['state'] | undefined)
const shown = computed(() => worstFirst(data.value ?? []).filter((vessel) => !state.value || vessel.state === state.value))
</script>

<template>
  <main class="px-6 pt-4 pb-8">
    <div class="flex items-start justify-between pb-4">
      <PageSentence v-if="data">
        <template v-if="data.length === 0">No vessel is defined yet.</template>
        <template v-else
          >{{ capital(numberInWords(shown.length)) }} {{ state ?? '' }} {{ shown.length === 1 ? 'vessel' : 'vessels'
          }}<template v-if="state"> of {{ numberInWords(data.length) }}</template
          >, {{ countInWords(shown.reduce((sum, vessel) => sum + vessel.points, 0)) }} points.</template
        >
      </PageSentence>
      <div class="flex items-center gap-4">
        <NuxtLink v-if="state" to="/vessels" class="lnk text-[13px]">Show all</NuxtLink>
        <UButton to="/vessels/new">Define a vessel</UButton>
      </div>
    </div>
    <ErrorNote v-if="error" :error="error" />
    <VesselTable v-if="shown.length > 0" :vessels="shown" :now="now" />
    <p v-else-if="data" class="soft max-w-xl py-4">
      A vessel is what is protected together: selections over your sources, a store, promises. Connect a source in the
      <NuxtLink to="/estate" class="lnk text-[var(--ink)]">estate</NuxtLink>, then define one.
    </p>
  </main>
</template>
