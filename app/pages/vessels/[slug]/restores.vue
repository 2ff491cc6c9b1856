<script setup lang="ts">
import type { RestoresView, VesselView } from '~~/server/views'

const { vessel } = defineProps<{ vessel: VesselView }>()
const { data, error, refresh } = useLoad<RestoresView>(() => `/api/vessels/${vessel.slug}/restores`, { tells: true })
onChange((change) => change.about === 'scratch' || change.about === 'run', refresh, 1000)
</script>

<template>
  <div class="grid gap-7 px-6 pt-4 pb-8">
    <ErrorNote v-if="error && !data" :error="error" />
    <div v-else-if="!data" class="grid gap-2" aria-busy="true"><USkeleton v-for="i in 3" :key="i" class="h-8 w-full" /></div>
    <ScratchList v-if="data" :copies="data.scratch" class="empty:hidden" />
    <SavedRestores v-if="data" :saved="data.saved" :slug="vessel.slug" @changed="refresh" />
    <RunList
      :query="`vessel=${vessel.slug}&kinds=restore,rehearsal,undo`"
      :with-vessel="false"
      empty="Nothing was restored or rehearsed yet."
    />
  </div>
</template>
