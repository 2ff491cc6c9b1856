<script setup lang="ts">
const connection = useConnection()
</script>

<template>
  <div v-if="connection.lost" role="alert" class="flex h-9 items-center gap-3 bg-[var(--iron)] px-6 text-[13px] text-[var(--on-fill)]">
    <UIcon name="i-lucide-unplug" class="size-4" />
    Our own server has not answered since {{ secondsOf(connection.lost) }}. What you see is from then; it goes on by itself when the server
    is back.
  </div>
</template>
