<script setup lang="ts" generic="T extends string">
import { RadioGroupItem, RadioGroupRoot } from 'reka-ui'

// One of a few, each with what it is, and with what stands in its way.
defineProps<{ choices: readonly { value: T; word: string; about: string; obstacle: string | null }[]; label: string }>()
const chosen = defineModel<T>({ required: true })
</script>

<template>
  <RadioGroupRoot v-model="chosen" orientation="vertical" loop :aria-label="label" class="rule border-y border-[var(--line)] text-[13px]">
    <RadioGroupItem
      v-for="{ value, word, about, obstacle } in choices"
      :key="value"
      :value="value"
      :data-choice="value"
      :data-obstacle="obstacle ? '' : undefined"
      class="grid w-full grid-cols-[18px_1fr] items-start gap-x-2 py-1.5 text-left focus-visible:outline-offset-[-2px]"
      :class="chosen === value ? 'bg-[var(--wash)]' : 'hover:bg-[var(--wash)]'"
    >
      <span class="mt-[3px] grid size-3.5 place-items-center rounded-full border border-[var(--edge)]"
        ><span v-if="chosen === value" class="size-[7px] rounded-full bg-[var(--ink)]"
      /></span>
      <span class="leading-[18px]"
        ><b class="font-semibold" :class="{ soft: obstacle }">{{ word }}</b
        ><span class="soft block">{{ about }}</span
        ><span v-if="obstacle" class="warning block">Not possible now: {{ obstacle }}</span></span
      >
    </RadioGroupItem>
  </RadioGroupRoot>
</template>
