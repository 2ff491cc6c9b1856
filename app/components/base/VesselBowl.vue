<script setup lang="ts">
// The state of a vessel as a bowl; always beside its word.
const BOWL = 'M1.2 2.2H18.8C18.8 7.6 15.4 11.6 12.6 12.2V14.2H7.4V12.2C4.6 11.6 1.2 7.6 1.2 2.2Z'
withDefaults(defineProps<{ state: 'whole' | 'at risk' | 'broken' | 'paused' | 'mended'; size?: number }>(), { size: 20 })
</script>

<template>
  <svg :width="size" :height="size * 0.8" viewBox="0 0 20 16" class="inline-block overflow-visible shrink-0" aria-hidden="true">
    <path v-if="state === 'whole' || state === 'mended'" :d="BOWL" fill="var(--glaze)" />
    <path v-if="state === 'mended'" d="M12.4 2.2L10.2 5.4L12 7.6L9.6 10L10.4 14.2" fill="none" stroke="var(--gold)" stroke-width="1.7" />
    <template v-if="state === 'at risk'">
      <path :d="BOWL" fill="none" stroke="var(--warning)" stroke-width="1.7" stroke-linejoin="round" />
      <path d="M12.6 2.2L10.2 5.2L12.1 7.2L9.9 10" fill="none" stroke="var(--warning)" stroke-width="1.5" />
    </template>
    <g v-if="state === 'broken'" fill="var(--error)">
      <path d="M.4 2.6H8.9L7.3 5.6L9.2 8L7.4 11L8 14.6H6.6V12.6C3.8 12 .4 8 .4 2.6Z" transform="rotate(-5 8 14)" />
      <path d="M11.4 1.2H19.6C19.8 7 16.2 11.2 13.4 11.8V14.2H10.6L10.2 11L12.2 7.6L10 4.8Z" transform="rotate(7 12 14)" />
    </g>
    <path v-if="state === 'paused'" :d="BOWL" fill="none" stroke="var(--soft)" stroke-width="1.4" stroke-dasharray="2.6 2" />
  </svg>
</template>
