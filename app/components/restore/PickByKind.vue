<script setup lang="ts">
import { fittingThings } from '~~/core/selection/fitting'

// Picks everything of some kinds, or with some labels, at once.
const bench = useWorkbench()
const open = ref(false)
const kinds = ref<string[]>([])
const labels = ref('')
const leaves = computed(() => bench.things.filter((thing) => !isContainer(thing)))
const items = computed(() => {
  const counts = new Map<string, number>()
  for (const { kind } of leaves.value) counts.set(kind, (counts.get(kind) ?? 0) + 1)
  return [...counts].sort(([a], [b]) => a.localeCompare(b)).map(([value, count]) => ({ value, label: `${kindInWords(value)}, ${count}` }))
})
const hasLabels = computed(() => leaves.value.some((thing) => thing.labels !== undefined))
const found = computed(() => fittingThings(leaves.value, kinds.value, labels.value))
const trouble = computed(() => ('trouble' in found.value ? found.value.trouble : null))
const paths = computed(() => ('trouble' in found.value ? [] : found.value.map(({ path }) => path)))
const isAsked = computed(() => kinds.value.length > 0 || labels.value.trim() !== '')
function pick(isPicked: boolean) {
  bench.pickAll(paths.value, isPicked)
  open.value = false
}
</script>

<template>
  <UPopover v-model:open="open" :ui="{ content: 'w-[300px] p-4 shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)]' }">
    <button type="button" class="lnk shrink-0" data-pick-by-kind>Pick by kind…</button>
    <template #content>
      <form class="grid gap-3 text-[13px]" @submit.prevent="pick(true)">
        <UFormField label="Kinds">
          <USelectMenu
            v-model="kinds"
            :items="items"
            value-key="value"
            multiple
            placeholder="all kinds"
            class="w-full"
            aria-label="Kinds"
          />
        </UFormField>
        <UFormField v-if="hasLabels" label="Labels" :error="trouble ?? undefined">
          <UInput v-model="labels" name="labels" placeholder="app=gate, tier in (front, back)" class="mono w-full" />
        </UFormField>
        <p v-if="isAsked && !trouble" aria-live="polite">{{ plural(paths.length, 'thing') }} of {{ countInWords(leaves.length) }}</p>
        <div class="flex gap-2.5">
          <UButton type="submit" color="primary" variant="solid" :disabled="!isAsked || paths.length === 0">Pick them</UButton>
          <UButton :disabled="!isAsked || paths.length === 0" @click="pick(false)">Leave them out</UButton>
        </div>
      </form>
    </template>
  </UPopover>
</template>
