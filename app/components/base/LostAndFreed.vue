<script setup lang="ts">
// Of what is deleted: which moments can't be entered then, and how much comes free at most.
defineProps<{ lost: { from: string; to: string }[]; stored: number }>()
</script>

<template>
  <div>
    <dt>Can’t be entered then</dt>
    <dd>{{ momentsInWords(lost) }}</dd>
  </div>
  <div>
    <dt>Comes free</dt>
    <dd>up to {{ bytesInWords(stored) }}, with the next prune of its store</dd>
  </div>
</template>
