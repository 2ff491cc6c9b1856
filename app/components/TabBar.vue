<script setup lang="ts" generic="T extends string">
// Views of the same thing, in the head of a panel.
defineProps<{ tabs: readonly (readonly [T, string])[] }>()
const shown = defineModel<T>({ required: true })
</script>

<template>
  <div class="flex h-full shrink-0 gap-5 text-[14px]" role="tablist">
    <button
      v-for="[name, word] in tabs"
      :key="name"
      role="tab"
      :aria-selected="shown === name"
      class="h-full"
      :class="shown === name ? 'font-semibold shadow-[inset_0_-2px_0_var(--ink)]' : 'soft hover:text-[var(--ink)]'"
      @click="shown = name"
    >
      {{ word }}<slot :name="name" />
    </button>
  </div>
</template>
