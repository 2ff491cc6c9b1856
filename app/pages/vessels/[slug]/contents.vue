<script setup lang="ts">
import { lastName, namesOf, placeOf } from '~~/core/things/thing'
import type { Lifeline, LookedRow, PointContents, PointThing, RowPage, VesselView } from '~~/server/views'

const { vessel } = defineProps<{ vessel: VesselView }>()
const route = useRoute()
const { data: lifeline, error: lifelineError } = useLoad<Lifeline>(() => `/api/vessels/${vessel.slug}/lifeline`, { tells: true })
const { point, chosen } = usePointChoice(() => vessel.slug, lifeline)
const set = useQuery()
const contents = useLoad<PointContents>(() => (point.value ? `${pointUrl(point.value)}?now=0` : null), {
  tells: true,
})
const things = computed(() => contents.data.value?.things ?? [])
const choosable = (thing: PointThing) => !['database', 'schema', 'namespace', 'large-objects', 'extension'].includes(thing.kind)

const path = computed({
  get: () => (route.query.show ? String(route.query.show) : ((things.value.find(isTable) ?? things.value.find(choosable))?.path ?? null)),
  set: (show) => void set({ show: show ?? undefined, column: undefined, value: undefined, order: undefined, filter: undefined }),
})
const thing = computed(() => things.value.find((candidate) => candidate.path === path.value))
type Tab = 'rows' | 'structure' | 'time'
const tabs = computed((): [Tab, string][] => {
  if (thing.value && isObject(thing.value)) return [['structure', 'Manifest']]
  if (thing.value?.kind === 'volume') return [['structure', 'Files']]
  const structure: [Tab, string] = ['structure', 'Structure']
  return thing.value && isTable(thing.value) ? [['rows', 'Rows'], structure, ['time', 'Across time']] : [structure]
})
const tab = computed({
  get: (): Tab => {
    const wanted = (route.query.tab ?? 'rows') as Tab
    return tabs.value.some(([name]) => name === wanted) ? wanted : 'structure'
  },
  set: (name: Tab) => void set({ tab: name === 'rows' ? undefined : name }),
})
const title = computed(() => {
  if (!path.value) return ''
  const names = namesOf(path.value)
  return thing.value && (isObject(thing.value) || thing.value.kind === 'volume')
    ? `${names.at(-2)} ${names.at(-1)}`
    : names.slice(2).join('.')
})
const takeCluster = (query: Record<string, string>) => `${pointUrl(point.value!)}/take-cluster?${new URLSearchParams(query)}`
// Names and key of the table's columns, for finding across time.
const { data: head } = useLoad<RowPage>(() =>
  point.value && thing.value && isTable(thing.value)
    ? `${pointUrl(point.value!)}/rows?path=${encodeURIComponent(thing.value.path)}&limit=1`
    : null,
)
const history = computed({
  get: () => ({ column: String(route.query.column ?? ''), value: String(route.query.value ?? '') }),
  set: ({ column, value }) => void set({ column, value }),
})
const ticked = ref<string[][]>([])
watch([path, point], () => (ticked.value = []))
const opened = shallowRef<LookedRow | null>(null)
const rowsView = useTemplateRef<{ filter: import('~~/core/look/filter').Condition[] }>('rowsView')
const filter = computed(() => rowsView.value?.filter ?? [])
const points = computed(() =>
  [...(lifeline.value?.points ?? [])]
    .reverse()
    .map(({ id, at: when, name }) => ({ label: `${whenOf(when)}${name ? `, ${name}` : ''}`, value: id })),
)
const restoreRows = computed(() => ({
  path: `/vessels/${vessel.slug}/restore`,
  query: {
    point: point.value ?? undefined,
    pick: path.value ?? undefined,
    show: path.value ?? undefined,
    ...(ticked.value.length > 0 ? { rows: JSON.stringify(ticked.value) } : {}),
  },
}))
</script>

<template>
  <p v-if="lifeline && !point" class="soft p-6">There is no point to look into yet.</p>
  <div v-else class="grid h-[calc(100vh-160px)] min-h-[420px] grid-cols-[274px_minmax(0,1fr)] max-[1150px]:grid-cols-[230px_minmax(0,1fr)]">
    <PointTree v-model="path" :things="things" :pending="contents.pending.value" :choosable="choosable">
      <template #before="{ thing: shown }">
        <UIcon v-if="choosable(shown)" :name="KIND_ICON[shown.kind] ?? 'i-lucide-shapes'" class="soft size-3.5 shrink-0" />
      </template>
      <template #behind="{ thing: shown }">
        <span class="num shrink-0 text-[12px]" :class="shown.unknown ? 'error' : shown.asOf ? 'warning' : 'soft'" :title="whyOf(shown)">{{
          sizeOf(shown)
        }}</span>
      </template>
    </PointTree>
    <section class="sheet flex min-h-0 min-w-0 flex-col border-t-0" aria-label="Contents">
      <div class="flex h-[46px] shrink-0 items-center gap-5 border-b border-[var(--line)] px-4">
        <h2 v-if="title" class="mono cut text-[14px] font-semibold" :title="path ?? ''">{{ title }}</h2>
        <span class="soft shrink-0 text-[13px]"
          >as of
          <ChoiceInSentence
            :model-value="point ?? undefined"
            :items="points"
            label="Another point"
            :word="
              chosen
                ? chosen.name === null && chosen.id.includes('~')
                  ? `${dayOf(chosen.at)} ${secondsOf(chosen.at)}`
                  : whenOf(chosen.at)
                : 'a kept point'
            "
            @update:model-value="(id) => set({ point: id, at: undefined })"
        /></span>
        <span v-if="thing?.read" class="soft cut text-[13px]" :title="readInWords(thing.read)" data-read>{{
          readInWords(thing.read)
        }}</span>
        <TabBar v-model="tab" :tabs="tabs" label="Views of it" class="ml-auto" />
        <div v-if="thing && isTable(thing)" class="flex shrink-0 items-center gap-2.5">
          <UButton v-if="ticked.length > 0" size="sm" color="primary" variant="solid" data-restore-rows :to="restoreRows"
            >Restore {{ plural(ticked.length, 'row') }}…</UButton
          >
          <ExportMenu :point="point!" :path="thing.path" :keys="ticked" :filter="filter" />
        </div>
        <div v-else-if="thing && (isObject(thing) || thing.kind === 'volume')" class="flex shrink-0 items-center gap-2.5" data-export>
          <UButton size="sm" :to="takeCluster({ path: placeOf(thing.path) })" external>All manifests as YAML</UButton>
          <UButton v-if="thing.kind === 'volume'" size="sm" :to="takeCluster({ path: thing.path })" external>This volume as tar</UButton>
        </div>
      </div>
      <ErrorNote v-if="lifelineError && !lifeline" :error="lifelineError" class="m-4" />
      <ErrorNote v-else-if="contents.error.value" :error="contents.error.value" class="m-4" />
      <template v-else-if="point && thing">
        <ContentsRows
          v-if="tab === 'rows'"
          ref="rowsView"
          v-model:ticked="ticked"
          :point="point"
          :path="thing.path"
          :partitioned="thing.rows === null"
          @open="opened = $event"
        />
        <ContentsManifest v-else-if="isObject(thing)" :point="point" :path="thing.path" />
        <ContentsFiles :slug="vessel.slug" v-else-if="thing.kind === 'volume'" :key="thing.path" :point="point" :path="thing.path" />
        <ContentsStructure v-else-if="tab === 'structure'" :point="point" :path="thing.path" />
        <ContentsTime
          v-else-if="head"
          v-model="history"
          :slug="vessel.slug"
          :path="thing.path"
          :columns="head.columns.map(({ name }) => name)"
          :key-column="head.key?.[0] ?? null"
          @point="(id) => set({ point: id, at: undefined, tab: undefined })"
        />
        <RowSheet v-model="opened" :point="point" :path="thing.path" :title="lastName(thing.path)" />
      </template>
      <p v-else-if="!contents.pending.value" class="soft p-4 text-[13px]">Choose something in the tree.</p>
    </section>
  </div>
</template>
