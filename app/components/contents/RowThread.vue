<script setup lang="ts">
// The thread between a row then and now: straight the same, kinked changed, a stub gone, a ring new.
defineProps<{ mark: 'same' | 'gone' | 'changed' | 'new'; side?: 'before' | 'now' }>()
</script>

<template>
  <svg width="26" height="14" viewBox="0 0 26 14" aria-hidden="true" class="shrink-0">
    <path v-if="mark === 'same'" d="M2 7H24" stroke="var(--line-strong)" stroke-width="1.5" />
    <template v-else-if="mark === 'gone'">
      <path v-if="side === 'before'" d="M2 7H24" stroke="var(--ink)" stroke-width="1.7" />
      <path v-else d="M4 7H13M13 2.5V11.5" stroke="var(--error)" stroke-width="1.8" />
    </template>
    <path v-else-if="mark === 'changed'" d="M2 7H8L11 2.5L15 11.5L18 7H24" fill="none" stroke="var(--warning)" stroke-width="1.7" />
    <template v-else>
      <path v-if="side !== 'before'" d="M12 7H24" stroke="var(--ink)" stroke-width="1.7" />
      <circle v-if="side !== 'now'" cx="18" cy="7" r="2.6" fill="none" stroke="var(--ink)" stroke-width="1.3" />
    </template>
  </svg>
</template>
