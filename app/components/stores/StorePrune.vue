<script setup lang="ts">
import type { StoreView } from '~~/server/views'

// When a store lets go what may go, by itself and now.
const { store } = defineProps<{ store: StoreView }>()
defineEmits<{ prune: [dry: boolean] }>()
const { error, send } = useSending()
const OFF = 'off'
const zone = computed(() => store.prune?.zone ?? zoneInUse.value)
const items = computed(() => {
  const hours = Array.from({ length: 24 }, (_, hour) => `${String(hour).padStart(2, '0')}:30`)
  const times = [...new Set([...hours, ...(store.prune ? [store.prune.at] : [])])].sort()
  const daily = times.map((time) => ({ label: `every day at ${time}, ${zone.value}`, value: time }))
  return [{ label: 'only when somebody says so', value: OFF }, ...daily]
})
const at = computed({
  get: () => store.prune?.at ?? OFF,
  set: (chosen) => {
    const times = chosen === OFF ? null : { zone: zone.value, at: chosen }
    void send(() => $fetch(`/api/stores/${store.id}/prune`, { method: 'PUT', body: { times } }))
  },
})
</script>

<template>
  <div data-prune>
    <p class="grid gap-1">
      <span class="soft">Lets go what may go, and frees its content</span>
      <USelect v-model="at" :items="items" value-key="value" class="w-72" aria-label="When it is pruned" />
    </p>
    <p class="soft mt-1">
      {{ store.prunedAt ? `Last ${whenOf(store.prunedAt)}` : 'Not pruned yet' }}
    </p>
    <div class="mt-2 flex gap-2">
      <UButton size="sm" data-dry @click="$emit('prune', true)">Dry run: what would go</UButton>
      <UButton size="sm" variant="ghost" data-prune-now @click="$emit('prune', false)">Prune now</UButton>
    </div>
    <ErrorNote v-if="error" :error="error" class="mt-2" />
  </div>
</template>
