<script setup lang="ts">
const live = useLive()
useKeys()
// What is opened now and then is loaded when it is opened first.
const palette = useOnce(usePalette())
const keys = useOnce(useKeyHelp())
const backUp = useOnce(useBackUp())
await live
</script>

<template>
  <UApp :toaster="{ position: 'bottom-right' }">
    <SvgPatterns />
    <TheBar />
    <ConnectionLost />
    <StaleStrip />
    <HoldStrip />
    <NuxtPage />
    <LazyThePalette v-if="palette" />
    <LazyTheKeys v-if="keys" />
    <LazyBackUpNow v-if="backUp" />
  </UApp>
</template>
