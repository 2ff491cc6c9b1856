<script setup lang="ts">
import { WEEKDAYS } from '~~/core/plan/words'

// Some days of the week, from 1 for Monday.
const days = defineModel<number[]>({ required: true })
const weekdays = WEEKDAYS.map((label, i) => ({ label, value: i + 1 }))
const toggle = (day: number) =>
  void (days.value = days.value.includes(day) ? days.value.filter((known) => known !== day) : [...days.value, day].sort())
</script>

<template>
  <span class="flex items-center gap-1" role="group" aria-label="Days of the week">
    <button
      v-for="{ label, value } in weekdays"
      :key="value"
      type="button"
      class="h-[30px] w-9 rounded-[6px] border text-[12px]"
      :class="days.includes(value) ? 'border-[var(--ink)] bg-[var(--sheet)] font-semibold' : 'soft border-[var(--edge)]'"
      :aria-pressed="days.includes(value)"
      :aria-label="label"
      @click="toggle(value)"
    >
      {{ label.slice(0, 2) }}
    </button>
  </span>
</template>
