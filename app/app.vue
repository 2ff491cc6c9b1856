<script setup lang="ts">
useLive()
useKeys()
</script>

<template>
  <UApp :toaster="{ position: 'bottom-right' }">
    <SvgPatterns />
    <TheBar />
    <ConnectionLost />
    <NuxtPage />
    <ThePalette />
    <TheKeys />
    <BackUpNow />
  </UApp>
</template>
