<script setup lang="ts">
import type { Collision } from '~~/core/restore/wish'

// What is done with one thing where something of its name stands.
const { choices } = defineProps<{ choices: readonly Collision[]; name: string }>()
const chosen = defineModel<Collision>({ required: true })
</script>

<template>
  <USelect
    v-model="chosen"
    value-key="value"
    :items="choices.map((value) => ({ value, label: capital(value) }))"
    size="xs"
    variant="ghost"
    class="-ml-2 font-semibold"
    :aria-label="`What to do with ${name}`"
  />
</template>
