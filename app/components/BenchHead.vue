<script setup lang="ts">
import { lastName } from '~~/core/things/thing'
import type { Lifeline, TableComparison, VesselView } from '~~/server/views'
import type { Workbench } from '~/composables/useWorkbench'

const { bench, chosen, lifeline, vessel } = defineProps<{
  vessel: VesselView
  bench: Workbench
  chosen: Lifeline['points'][number] | undefined
  lifeline: Lifeline | null
  comparison: TableComparison | null
}>()
defineEmits<{ point: [id: string] }>()
const now = useTicking()
const route = useRoute()

const tables = computed(() => bench.operations.value.filter((operation) => operation.kind === 'table' && operation.verb !== 'leave'))
const rows = computed(() => tables.value.reduce((sum, operation) => sum + operation.rows, 0))
const replaced = computed(() => tables.value.filter((operation) => operation.verb === 'replace'))
const what = computed(() => (tables.value.length === 1 ? lastName(tables.value[0]!.path) : plural(tables.value.length, 'table')))
const INTO = [
  ['original', 'the original place'],
  ['beside', 'beside it, renamed'],
] as const
const COLLIDE = [
  ['replace', 'replace'],
  ['rename', 'rename'],
  ['skip', 'skip'],
] as const
const schemas = computed(() => [...new Set(Object.values(bench.contents.data.value?.schemas ?? {}).flat())])
// A choice needs a value that is not empty, and a schema may have any name.
const OWN = 'own'
const schemaItems = computed(() => [
  { label: 'its own schema', value: OWN },
  ...schemas.value.map((name) => ({ label: name, value: `in ${name}` })),
])
const schema = computed({
  get: () => (bench.beside.schema === null ? OWN : `in ${bench.beside.schema}`),
  set: (value: string) => (bench.beside.schema = value === OWN ? null : value.slice('in '.length)),
})
const points = computed(() =>
  [...(lifeline?.points ?? [])]
    .reverse()
    .slice(0, 200)
    .map((point) => ({ label: `${whenOf(point.at)}${point.name ? `, ${point.name}` : ''}`, value: point.id })),
)
</script>

<template>
  <div class="border-b border-[var(--line)] px-6 pt-[11px] pb-3">
    <div class="flex items-start justify-between gap-6">
      <PageSentence class="cut">
        <template v-if="bench.operations.value.length === 0"
          >What shall come back from {{ vessel.name }}<template v-if="chosen"> as it stood {{ whenOf(chosen.at) }}</template
          >?</template
        >
        <template v-else-if="tables.length === 0"
          >{{ plural(bench.operations.value.filter((o) => o.verb === 'make').length, 'thing') }} without rows
          {{ bench.operations.value.length === 1 ? 'returns' : 'return' }}.</template
        >
        <template v-else
          >{{ plural(rows, 'row') }} {{ rows === 1 ? 'returns' : 'return' }} to {{ what
          }}<template v-if="chosen"> as {{ tables.length === 1 ? 'it' : 'they' }} stood {{ whenOf(chosen.at) }}</template
          ><template v-if="replaced.length > 0">; <u style="border-color: var(--iron)">what is there now is overwritten</u></template
          >.</template
        >
      </PageSentence>
      <NuxtLink :to="`/vessels/${vessel.slug}`" class="soft shrink-0 pt-1.5 text-[13px] hover:text-[var(--ink)]"
        >Back to the lifeline</NuxtLink
      >
    </div>
    <div class="mt-2.5 flex flex-wrap items-stretch gap-x-6 gap-y-3 text-[13px]">
      <div class="border-r border-[var(--line)] pr-6">
        <div class="soft s12 mb-1.5">From</div>
        <div class="flex items-center gap-4">
          <div class="leading-[18px]">
            <div class="font-semibold">{{ vessel.name }}</div>
            <div>{{ chosen ? whenOf(chosen.at) : route.query.point ? 'kept before an overwriting' : '' }}</div>
          </div>
          <SmallLifeline :recent="vessel.recent" :now="now" :at="chosen ? Date.parse(chosen.at) : undefined" :width="150" />
          <USelectMenu
            :model-value="chosen?.id"
            value-key="value"
            :items="points"
            variant="none"
            trailing-icon=""
            class="lnk rounded-none p-0"
            aria-label="Another point"
            :ui="{ content: 'w-80', base: 'p-0 pe-0' }"
            @update:model-value="(id) => $emit('point', String(id))"
            >another point</USelectMenu
          >
        </div>
      </div>
      <div class="border-r border-[var(--line)] pr-6">
        <div class="soft s12 mb-1.5">Into</div>
        <div class="flex items-center gap-3">
          <ChoiceBar v-model="bench.mode.value" :choices="INTO" label="Into" />
          <USelect
            v-if="bench.mode.value === 'beside'"
            v-model="schema"
            value-key="value"
            :items="schemaItems"
            aria-label="In which schema"
            class="w-40"
          />
        </div>
      </div>
      <div v-if="bench.mode.value === 'original'">
        <div class="soft s12 mb-1.5">When names collide</div>
        <ChoiceBar v-model="bench.collide.value" :choices="COLLIDE" label="When names collide" />
      </div>
    </div>
  </div>
</template>
