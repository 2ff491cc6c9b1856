<script setup lang="ts">
// How many runs may work at a source, or with a store, at once.
const { address, atOnce } = defineProps<{ address: string; atOnce: number | null }>()
const { error, send } = useSending()
const ANY = 'any'
const FEW = [1, 2, 3, 4, 6, 8, 12]
const items = computed(() => [
  { label: 'any number of runs at once', value: ANY },
  ...[...new Set([...FEW, ...(atOnce === null ? [] : [atOnce])])]
    .sort((a, b) => a - b)
    .map((count) => ({ label: `at most ${plural(count, 'run')} at once`, value: String(count) })),
])
const chosen = computed({
  get: () => (atOnce === null ? ANY : String(atOnce)),
  set: (value) => void send(() => $fetch(address, { method: 'PUT', body: { atOnce: value === ANY ? null : Number(value) } })),
})
</script>

<template>
  <div data-at-once>
    <USelect
      v-model="chosen"
      :items="items"
      value-key="value"
      size="sm"
      class="w-56"
      aria-label="How many runs at once"
      title="Restores wait for none."
    />
    <ErrorNote v-if="error" :error="error" class="mt-2" />
  </div>
</template>
