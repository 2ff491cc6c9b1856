<script setup lang="ts">
const connection = useConnection()
</script>

<template>
  <AlertStrip v-if="connection.lost" icon="i-lucide-unplug">
    Our own server has not answered since {{ secondsOf(connection.lost) }}. What you see is from then; it goes on by itself when the server
    is back.
  </AlertStrip>
</template>
