<script setup lang="ts">
import type { Standing } from '~~/server/views'

useHead({ title: 'Vessels · Unbroken Vessel' })
const route = useRoute()
const { data, error } = useVessels({ tells: true })
const now = useTicking()
const state = computed(() => route.query.state as Standing['state'] | undefined)
const shown = computed(() => worstFirst(data.value ?? []).filter((vessel) => !state.value || vessel.state === state.value))
const { backUp } = storeToRefs(useScreen())
const picked = ref<string[]>([])
/** What is picked and shown; what a filter hides is not acted upon. */
const chosen = computed(() => shown.value.filter(({ slug }) => picked.value.includes(slug)))
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
        <template v-if="chosen.length > 0">
          <button class="lnk text-[13px]" @click="picked = []">Pick none</button>
          <UButton color="primary" variant="solid" data-back-up-picked @click="backUp = chosen.map(({ slug, name }) => ({ slug, name }))"
            >Back up {{ chosen.length === 1 ? chosen[0]!.name : plural(chosen.length, 'vessel') }}…</UButton
          >
        </template>
        <NuxtLink to="/points" class="lnk text-[13px]" data-notable>What goes and what stays</NuxtLink>
        <UButton to="/vessels/new">Define a vessel</UButton>
      </div>
    </div>
    <ErrorNote v-if="error && !data" :error="error" />
    <div v-else-if="!data" class="grid gap-3" aria-busy="true"><USkeleton v-for="i in 4" :key="i" class="h-14 w-full" /></div>
    <VesselTable v-if="shown.length > 0" v-model:picked="picked" picks :vessels="shown" :now="now" />
    <p v-else-if="data && data.length > 0" class="soft max-w-xl py-4">None of them is {{ state }}.</p>
    <FirstSteps v-else-if="data" :vessels="data" />
    <GoneVessels />
  </main>
</template>
