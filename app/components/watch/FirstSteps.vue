<script setup lang="ts">
import type { VesselView } from '~~/server/views'

// What leads to the first point, in its order: until there is one, nothing is protected.
const { vessels } = defineProps<{ vessels: Pick<VesselView, 'slug' | 'name'>[] }>()
const { data: sources } = useSources()
const { data: stores } = useStores()
const { backUp } = storeToRefs(useScreen())
const first = computed(() => vessels[0])
const steps = computed(() => [
  {
    what: 'Connect a source',
    why: 'a database server or a cluster, whose things are then seen',
    done: (sources.value?.length ?? 0) > 0,
    to: '/sources?connect=1',
  },
  {
    what: 'Make a store',
    why: 'a folder in which content is kept encrypted, and only once',
    done: (stores.value?.length ?? 0) > 0,
    to: '/stores?make=1',
  },
  {
    what: 'Define a vessel',
    why: 'what is protected together, how consistent, and how often',
    done: vessels.length > 0,
    to: '/vessels/new',
  },
  { what: 'Back it up', why: 'the first point, from which it can be restored', done: false, to: null },
])
const next = computed(() => (sources.value && stores.value ? steps.value.findIndex(({ done }) => !done) : -1))
</script>

<template>
  <ol class="rule max-w-2xl border-y border-[var(--line)]" aria-label="First steps">
    <li
      v-for="({ what, why, done, to }, i) in steps"
      :key="what"
      class="flex min-h-[52px] items-center gap-4 text-[13px]"
      :data-step="done ? 'done' : i === next ? 'next' : 'later'"
      :aria-current="i === next ? 'step' : undefined"
    >
      <UIcon v-if="done" name="i-lucide-check" class="glaze size-4 shrink-0" aria-label="done" />
      <span v-else class="num w-4 shrink-0 text-center" :class="i === next ? 'font-semibold' : 'soft'">{{ i + 1 }}</span>
      <span :class="{ soft: done || i !== next }"
        ><b class="font-semibold">{{ what }}</b
        >, {{ why }}</span
      >
      <template v-if="i === next">
        <UButton v-if="to" class="ml-auto" color="primary" variant="solid" :to="to">{{ what }}</UButton>
        <UButton
          v-else-if="first"
          class="ml-auto"
          color="primary"
          variant="solid"
          @click="backUp = [{ slug: first.slug, name: first.name }]"
          >Back up {{ first.name }}…</UButton
        >
      </template>
    </li>
  </ol>
</template>
