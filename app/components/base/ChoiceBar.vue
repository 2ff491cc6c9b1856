<script setup lang="ts" generic="T extends string">
import { RadioGroupItem, RadioGroupRoot } from 'reka-ui'

// One of a few, all in view. Arrows go from one to the next.
defineProps<{ choices: readonly (readonly [T, string])[]; label: string }>()
const chosen = defineModel<T>({ required: true })
</script>

<template>
  <RadioGroupRoot
    v-model="chosen"
    orientation="horizontal"
    loop
    :aria-label="label"
    class="inline-flex h-[30px] shrink-0 overflow-hidden rounded-[6px] border border-[var(--edge)]"
  >
    <RadioGroupItem
      v-for="[value, word] in choices"
      :key="value"
      :value="value"
      :data-choice="value"
      class="border-l border-[var(--line)] px-2.5 whitespace-nowrap first:border-0 focus-visible:outline-offset-[-3px]"
      :class="chosen === value ? 'bg-[var(--sheet)] font-semibold shadow-[inset_0_-2px_0_var(--ink)]' : 'soft hover:text-[var(--ink)]'"
    >
      {{ word }}
    </RadioGroupItem>
  </RadioGroupRoot>
</template>
