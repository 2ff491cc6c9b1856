<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { namesOf } from '~~/core/things/thing'
import type { Lifeline, TableComparison } from '~~/server/views'
import type { Workbench } from '~/composables/useWorkbench'

const { path, comparison, bench, points, at } = defineProps<{
  bench: Workbench
  points: Lifeline['points']
  path: string | null
  comparison: TableComparison | null
  error: ErrorRecord | null
  pending: boolean
  at: string | null
  there: ErrorRecord | null
}>()
const against = defineModel<string | null>('against', { required: true })
const NOW = 'now'
const sides = computed(() => [
  { label: 'what is there now', value: NOW },
  ...[...points]
    .reverse()
    .filter((point) => point.at !== at)
    .map((point) => ({ label: whenOf(point.at), value: point.id })),
])
const side = computed({ get: () => against.value ?? NOW, set: (value) => (against.value = value === NOW ? null : value) })
const tab = ref<'rows' | 'structure'>('rows')
const differing = computed(() => (comparison?.now ? comparison.structure.filter((line) => line.mark !== 'same').length : 0))
const title = computed(() => (path ? namesOf(path).slice(2).join('.') : ''))
</script>

<template>
  <section class="sheet flex min-h-0 min-w-0 flex-col border-t-0" aria-label="Then and now">
    <div class="flex h-[46px] shrink-0 items-center justify-between gap-4 border-b border-[var(--line)] px-4">
      <div class="flex min-w-0 items-center gap-4">
        <h2 class="mono cut text-[14px] font-semibold">{{ title }}</h2>
        <span v-if="path" class="soft shrink-0 text-[13px]"
          >beside
          <USelectMenu
            v-model="side"
            value-key="value"
            :items="sides"
            variant="none"
            trailing-icon=""
            class="lnk rounded-none p-0 text-[var(--ink)]"
            aria-label="Beside what"
            :ui="{ content: 'w-64', base: 'p-0 pe-0' }"
            >{{ sides.find(({ value }) => value === side)?.label ?? 'a kept point' }}</USelectMenu
          ></span
        >
      </div>
      <div class="flex h-full gap-5 text-[14px]" role="tablist">
        <button
          v-for="name in ['rows', 'structure'] as const"
          :key="name"
          role="tab"
          :aria-selected="tab === name"
          class="h-full"
          :class="tab === name ? 'font-semibold shadow-[inset_0_-2px_0_var(--ink)]' : 'soft hover:text-[var(--ink)]'"
          @click="tab = name"
        >
          {{ capital(name) }}<span v-if="name === 'structure' && differing > 0" class="ochre"> ≠{{ differing }}</span>
        </button>
      </div>
    </div>
    <ErrorNote v-if="error" :error="error" class="m-4" />
    <ErrorNote v-else-if="there && !comparison" :error="there" class="m-4" />
    <div v-else-if="!comparison" class="grid gap-2 p-4">
      <template v-if="pending && path"><USkeleton v-for="i in 10" :key="i" class="h-5" /></template>
      <p v-else class="soft text-[13px]">Choose a table in the tree to see it then and now.</p>
    </div>
    <CompareRows v-else-if="tab === 'rows'" :comparison="comparison" :at="at" :bench="bench" />
    <CompareStructure v-else :comparison="comparison" />
  </section>
</template>
