<script setup lang="ts">
import type { VesselView } from '~~/server/views'

defineProps<{ vessel: VesselView }>()
</script>

<template>
  <div class="px-6 pt-2 pb-8">
    <ScheduleRecord :vessel="vessel" />
    <RunList :query="`vessel=${vessel.slug}&kinds=backup,verify,reindex,hold,fetch`" :with-vessel="false" empty="Nothing ran yet." />
  </div>
</template>
