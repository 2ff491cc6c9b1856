<script setup lang="ts">
const live = useLive()
useKeys()
// What is opened now and then is loaded when it is opened first.
const screen = storeToRefs(useScreen())
const palette = useOnce(screen.palette)
const keys = useOnce(screen.help)
const backUp = useOnce(screen.backUp)
await live
</script>

<template>
  <UApp :toaster="{ position: 'bottom-right' }">
    <SvgPatterns />
    <TopBar />
    <ConnectionLost />
    <StaleStrip />
    <HoldStrip />
    <NuxtPage />
    <LazyFindOrDo v-if="palette" />
    <LazyHelpDialog v-if="keys" />
    <LazyBackUpNow v-if="backUp" />
  </UApp>
</template>
