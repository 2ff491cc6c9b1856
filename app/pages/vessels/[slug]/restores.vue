<script setup lang="ts">
import type { RestoresView, VesselView } from '~~/server/views'

const { vessel } = defineProps<{ vessel: VesselView }>()
const { data, refresh } = useLoad<RestoresView>(() => `/api/vessels/${vessel.slug}/restores`)
onChange((change) => change.about === 'scratch' || change.about === 'run', refresh, 1000)
</script>

<template>
  <div class="grid gap-7 px-6 pt-4 pb-8">
    <ScratchList v-if="data" :copies="data.scratch" class="empty:hidden" />
    <SavedRestores v-if="data" :saved="data.saved" :slug="vessel.slug" @changed="refresh" />
    <RunList
      :query="`vessel=${vessel.slug}&kinds=restore,rehearsal,undo`"
      :with-vessel="false"
      empty="Nothing was brought back or rehearsed yet."
    />
  </div>
</template>
