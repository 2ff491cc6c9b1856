<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { namesOf } from '~~/core/things/thing'
import type { Lifeline, TableComparison } from '~~/server/views'

const { path, comparison, points, at } = defineProps<{
  points: Lifeline['points']
  path: string | null
  comparison: TableComparison | null
  error: ErrorRecord | null
  pending: boolean
  at: string | null
  there: ErrorRecord | null
  /** The point at hand. */
  point: string | null
}>()
const bench = useWorkbench()
const against = defineModel<string | null>('against', { required: true })
const thing = computed(() => bench.things.find((thing) => thing.path === path))
const isVolume = computed(() => thing.value?.kind === 'volume')
const isManifest = computed(() => thing.value !== undefined && isObject(thing.value))
const NOW = 'now'
const sides = computed(() => [
  { label: 'what is there now', value: NOW },
  ...[...points]
    .reverse()
    .filter((point) => point.at !== at)
    .map((point) => ({ label: whenOf(point.at), value: point.id })),
])
const side = computed({
  get: (): string | undefined => against.value ?? NOW,
  set: (value) => (against.value = value === undefined || value === NOW ? null : value),
})
const TABS = [
  ['rows', 'Rows'],
  ['structure', 'Structure'],
] as const
const tab = ref<'rows' | 'structure'>('rows')
const differing = computed(() => (comparison?.now ? comparison.structure.filter((line) => line.mark !== 'same').length : 0))
const title = computed(() => {
  if (!path) return ''
  return isVolume.value || isManifest.value ? namesOf(path).slice(-2).join(' ') : namesOf(path).slice(2).join('.')
})
</script>

<template>
  <section class="sheet flex min-h-0 min-w-0 flex-col border-t-0" aria-label="Then and now">
    <div class="flex h-[46px] shrink-0 items-center justify-between gap-4 border-b border-[var(--line)] px-4">
      <div class="flex min-w-0 items-center gap-4">
        <h2 v-if="title" class="mono cut text-[14px] font-semibold">{{ title }}</h2>
        <span v-if="path" class="soft shrink-0 text-[13px]"
          >beside
          <ChoiceInSentence
            v-model="side"
            :items="sides"
            label="Beside what"
            :word="sides.find(({ value }) => value === side)?.label ?? 'a kept point'"
        /></span>
      </div>
      <TabBar v-if="!isVolume && !isManifest" v-model="tab" :tabs="TABS" label="Rows or structure">
        <template #structure
          ><span v-if="differing > 0" class="warning"> ≠{{ differing }}</span></template
        >
      </TabBar>
    </div>
    <RestoreManifest v-if="point && path && isManifest" :point="point" :path="path" :against="against" />
    <RestoreFiles v-else-if="point && path && isVolume" :point="point" :path="path" :against="against" />
    <ErrorNote v-else-if="error" :error="error" class="m-4" />
    <ErrorNote v-else-if="there && !comparison" :error="there" class="m-4" />
    <div v-else-if="!comparison" class="grid gap-2 p-4">
      <template v-if="pending && path"><USkeleton v-for="i in 10" :key="i" class="h-5" /></template>
      <p v-else class="soft text-[13px]">Choose something in the tree to see it then and now.</p>
    </div>
    <CompareRows v-else-if="tab === 'rows'" :comparison="comparison" :at="at" />
    <CompareStructure v-else :comparison="comparison" />
  </section>
</template>
