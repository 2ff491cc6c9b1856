<script setup lang="ts">
const { lost } = storeToRefs(useScreen())
</script>

<template>
  <AlertStrip v-if="lost" icon="i-lucide-unplug">
    Our own server has not answered since {{ secondsOf(lost) }}. What you see is from then; it goes on by itself when the server is back.
  </AlertStrip>
</template>
