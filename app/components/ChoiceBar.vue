<script setup lang="ts" generic="T extends string">
// One of a few, all in view.
const { choices, label } = defineProps<{ choices: readonly (readonly [T, string])[]; label: string }>()
const chosen = defineModel<T>({ required: true })
function step(by: number) {
  const at = choices.findIndex(([value]) => value === chosen.value)
  chosen.value = choices[(at + by + choices.length) % choices.length]![0]
}
</script>

<template>
  <div
    role="radiogroup"
    :aria-label="label"
    class="inline-flex h-[30px] overflow-hidden rounded-[6px] border border-[var(--edge)]"
    @keydown.right.prevent="step(1)"
    @keydown.left.prevent="step(-1)"
  >
    <button
      v-for="[value, word] in choices"
      :key="value"
      type="button"
      role="radio"
      :aria-checked="chosen === value"
      :tabindex="chosen === value ? 0 : -1"
      :data-choice="value"
      class="border-l border-[var(--line)] px-2.5 first:border-0 focus-visible:outline-offset-[-3px]"
      :class="chosen === value ? 'bg-[var(--sheet)] font-semibold shadow-[inset_0_-2px_0_var(--ink)]' : 'soft hover:text-[var(--ink)]'"
      @click="chosen = value"
    >
      {{ word }}
    </button>
  </div>
</template>
