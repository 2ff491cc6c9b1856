<script setup lang="ts">
// A choice that stands in a sentence: its word is underlined, and opens the list.
defineProps<{ items: { label: string; value: string }[]; label: string; word: string; strong?: boolean }>()
const chosen = defineModel<string | undefined>({ required: true })
</script>

<template>
  <USelectMenu
    :model-value="chosen"
    value-key="value"
    :items="items"
    variant="none"
    trailing-icon=""
    class="lnk rounded-none p-0 text-[var(--ink)]"
    :class="{ 'font-semibold': strong }"
    :aria-label="label"
    :ui="{ content: 'w-80', base: 'p-0 pe-0' }"
    @update:model-value="(value) => (chosen = String(value))"
    >{{ word }}</USelectMenu
  >
</template>
