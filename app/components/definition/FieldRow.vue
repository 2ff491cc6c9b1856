<script setup lang="ts">
// One thing that is set, beside what it is called.
defineProps<{
  label: string
  /** The id of the field that it names; absent where what is chosen has a name of its own. */
  field?: string
}>()
</script>

<template>
  <div class="grid min-h-11 grid-cols-[160px_1fr] items-center gap-3 py-1.5">
    <component :is="field ? 'label' : 'span'" :for="field">{{ label }}</component>
    <span class="flex items-center gap-3"><slot /></span>
  </div>
</template>
