<script setup lang="ts">
const route = useRoute()
useLive()
useKeys()
</script>

<template>
  <UApp :toaster="{ position: 'bottom-right' }">
    <TheBar />
    <ConnectionLost />
    <NuxtPage :page-key="route.path.startsWith('/vessels/') ? `vessel-${route.params.slug}` : undefined" />
    <ThePalette />
    <TheKeys />
  </UApp>
</template>
