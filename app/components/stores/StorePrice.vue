<script setup lang="ts">
import type { StoreView } from '~~/server/views'

// What a store costs, by which plans tell what they will.
const { store } = defineProps<{ store: StoreView }>()
const { error, send } = useSending()
const form = reactive({ perGbMonth: store.price?.perGbMonth, perGbRead: store.price?.perGbRead })
function save() {
  const { perGbMonth, perGbRead } = form
  const price = perGbMonth === undefined || (perGbMonth as unknown) === '' ? null : { perGbMonth, perGbRead: Number(perGbRead) || 0 }
  void send(() => $fetch(`/api/stores/${store.id}/price`, { method: 'PUT', body: { price } }))
}
const FIELDS = [
  ['perGbMonth', 'A GB costs a month'],
  ['perGbRead', 'A GB that is read costs'],
] as const
</script>

<template>
  <div data-price>
    <div v-for="[field, label] in FIELDS" :key="field" class="flex items-center justify-between py-1">
      <label class="soft" :for="`${field}-${store.id}`">{{ label }}</label>
      <UInput
        :id="`${field}-${store.id}`"
        v-model.number="form[field]"
        type="number"
        min="0"
        step="any"
        class="w-24"
        placeholder="unknown"
        @change="save"
      />
    </div>
    <ErrorNote v-if="error" :error="error" />
  </div>
</template>
