<script setup lang="ts">
// A word of ours, explained on hover and to screen readers.
defineProps<{ why: string }>()
</script>

<template>
  <UTooltip :text="why">
    <span :aria-description="why"><slot /></span>
  </UTooltip>
</template>
