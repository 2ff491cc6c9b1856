<script setup lang="ts">
// Whether a vessel protects a thing: wholly, in part, or not; struck through when it is gone.
const { cover, gone = false } = defineProps<{ cover: 'all' | 'part' | 'none'; gone?: boolean }>()
const word = computed(() => (gone ? 'gone' : { all: 'protected', part: 'protected in part', none: 'protected by no vessel' }[cover]))
</script>

<template>
  <svg width="14" height="12" viewBox="0 0 14 12" class="shrink-0" role="img" :aria-label="word">
    <title>{{ word }}</title>
    <path
      d="M1 1.5H13C13 6.5 10 9 7 10.5C4 9 1 6.5 1 1.5Z"
      :fill="cover === 'all' && !gone ? 'var(--glaze)' : 'none'"
      :stroke="gone ? 'var(--soft)' : cover === 'none' ? 'var(--edge)' : 'var(--glaze)'"
      :stroke-dasharray="cover === 'none' || gone ? '2 1.6' : undefined"
      stroke-width="1.3"
    />
    <path v-if="cover === 'part' && !gone" d="M1.6 5.5H12.4C11.3 8 9.2 9.4 7 10.5C4.8 9.4 2.7 8 1.6 5.5Z" fill="var(--glaze)" />
  </svg>
</template>
