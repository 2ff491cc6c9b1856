<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { CLUSTER_WIDE, CONTAINER_KINDS } from '~~/core/things/thing'
import type { ThingView } from '~~/server/views'

const { container, open, path, tray } = defineProps<{ container: string | null; open: string | null; path: string; tray: string[] }>()
const emit = defineEmits<{
  selected: [thing: ThingView | null, among: ThingView[]]
  pick: [path: string]
  loaded: [things: ThingView[]]
}>()
const { data, error, refresh } = useLoad<ThingView[]>(
  () => `/api/things/children${container === null ? '' : `?path=${encodeURIComponent(container)}`}`,
  { tells: true },
)
onChange((change) => change.about === 'things' || change.about === 'vessel', refresh, 1000)
const filter = ref('')
const ORDER = 'server cluster database schema namespace table materialized-view view function sequence type extension volume object'.split(
  ' ',
)
const nameOf = ({ name }: ThingView) => (name === CLUSTER_WIDE ? 'cluster-wide' : name)
const kindOf = (thing: ThingView) => thing.facts.kind ?? thing.kind
const things = computed(() =>
  [...(data.value ?? [])].sort(
    (a, b) =>
      ORDER.indexOf(a.kind) - ORDER.indexOf(b.kind) ||
      Number(a.name === CLUSTER_WIDE) - Number(b.name === CLUSTER_WIDE) ||
      b.bytes - a.bytes ||
      kindOf(a).localeCompare(kindOf(b)) ||
      a.name.localeCompare(b.name),
  ),
)
const shown = computed(() => {
  const text = filter.value.trim().toLowerCase()
  return text ? things.value.filter((thing) => thing.name.toLowerCase().includes(text)) : things.value
})
watch(
  () => [data.value, path] as const,
  () => {
    if (data.value) emit('loaded', data.value)
    const found = data.value?.find((thing) => thing.path === path)
    if (found) emit('selected', found, data.value ?? [])
  },
  { immediate: true },
)
const scroller = useTemplateRef<HTMLElement>('scroller')
const virtual = useVirtualizer(
  computed(() => ({ count: shown.value.length, getScrollElement: () => scroller.value, estimateSize: () => 36, overscan: 8 })),
)
const isOpen = (thing: ThingView) => thing.path === open || thing.path === path
const isContainer = (thing: ThingView) => CONTAINER_KINDS.has(thing.kind)
const hasSize = ({ kind, bytes }: ThingView) =>
  ['table', 'materialized-view', 'volume'].includes(kind) ||
  (CONTAINER_KINDS.has(kind) && (bytes > 0 || !['cluster', 'namespace'].includes(kind)))
const title = computed(() =>
  container === null
    ? 'Sources'
    : (({ namespace: 'Namespaces', database: 'Databases', schema: 'Schemas' } as Record<string, string>)[things.value[0]?.kind ?? ''] ??
      'Things'),
)
</script>

<template>
  <section class="flex min-w-[196px] flex-1 flex-col border-r border-[var(--line)]" :aria-label="title">
    <div class="soft flex h-8 shrink-0 items-center justify-between gap-3 px-4 text-[12px]">
      <span>{{ title }}</span>
      <input
        v-if="things.length > 12"
        v-model="filter"
        placeholder="filter"
        :aria-label="`Filter ${title}`"
        class="w-28 border-b border-[var(--edge)] bg-transparent text-[var(--ink)] placeholder:text-[var(--soft)]"
      />
      <span v-else-if="data">{{ things.length }}</span>
    </div>
    <ErrorNote v-if="error" :error="error" class="m-3" />
    <div v-else-if="!data" class="grid gap-3 p-4"><USkeleton v-for="i in 5" :key="i" class="h-6" /></div>
    <p v-else-if="things.length === 0" class="soft px-4 text-[13px]">Nothing is in it.</p>
    <div ref="scroller" class="min-h-0 flex-1 overflow-y-auto">
      <div class="relative" :style="{ height: `${virtual.getTotalSize()}px` }">
        <div
          v-for="item in virtual.getVirtualItems()"
          :key="shown[item.index]!.path"
          data-row
          class="absolute inset-x-0 flex h-9 items-center gap-2 pr-2.5 pl-4 text-[13px]"
          :style="{ transform: `translateY(${item.start}px)` }"
          :class="isOpen(shown[item.index]!) ? 'bg-[var(--sheet)] shadow-[inset_3px_0_0_var(--ink)]' : 'hover:bg-[var(--wash)]'"
        >
          <ProtectionMark :cover="shown[item.index]!.cover" :gone="shown[item.index]!.goneAt !== null" />
          <NuxtLink
            :to="thingLink(shown[item.index]!.path)"
            class="mono cut flex-1"
            :class="shown[item.index]!.goneAt ? 'soft line-through' : ''"
            :title="shown[item.index]!.name"
            >{{ nameOf(shown[item.index]!) }}</NuxtLink
          >
          <span class="soft num text-[12px]">
            <template v-if="shown[item.index]!.goneAt">gone</template>
            <template v-else-if="hasSize(shown[item.index]!)">{{ bytesInWords(shown[item.index]!.bytes) }}</template>
            <template v-else-if="isContainer(shown[item.index]!)">{{
              shown[item.index]!.tables > 0 ? countInWords(shown[item.index]!.tables) : ''
            }}</template>
            <template v-else>{{ kindOf(shown[item.index]!) }}</template>
          </span>
          <UCheckbox
            v-if="container !== null"
            :model-value="tray.includes(shown[item.index]!.path)"
            :aria-label="`Pick ${shown[item.index]!.name}`"
            @update:model-value="emit('pick', shown[item.index]!.path)"
          />
          <UIcon v-if="isContainer(shown[item.index]!)" name="i-lucide-chevron-right" class="soft size-3.5 shrink-0" />
        </div>
      </div>
    </div>
  </section>
</template>
