<script setup lang="ts">
import { lastName } from '~~/core/things/thing'
import type { SourceView } from '~~/server/views'

// Where namespaces go: which cluster, and under which name each.
const { sources, at } = defineProps<{
  sources: SourceView[]
  /** The moment of the point: a copy bears its day. */
  at: string | null
}>()
const bench = useWorkbench()
const { cluster } = bench.choices
const clusters = computed(() => sources.filter(({ kind }) => kind === 'kubernetes').map(({ name }) => name))
const home = computed(() => bench.things.find(({ kind }) => kind === 'namespace')?.path.split('/')[0] ?? '')
const source = computed({
  get: () => cluster.source ?? home.value,
  set: (name: string) => (cluster.source = name === home.value ? null : name),
})
const namespaces = computed(() =>
  bench.things.filter(({ kind, path }) => kind === 'namespace' && lastName(path) !== '@cluster').map(({ path }) => lastName(path)),
)
const PLACES = [
  ['original', 'in its place'],
  ['copy', 'a copy beside it'],
] as const
/** The longest name that a namespace may have, without the day. */
const ROOM = 63 - '-2026-11-24'.length
const place = computed({
  get: () => (namespaces.value.some((name) => cluster.namespaces[name] !== undefined) ? 'copy' : 'original'),
  set: (where: 'original' | 'copy') => {
    const dated = (name: string) => `${name.slice(0, ROOM)}-${(at ?? new Date().toISOString()).slice(0, 10)}`
    cluster.namespaces = where === 'copy' ? Object.fromEntries(namespaces.value.map((name) => [name, dated(name)])) : {}
  },
})
function rename(name: string, to: string) {
  const { [name]: _, ...others } = cluster.namespaces
  cluster.namespaces = to.trim() === '' || to.trim() === name ? others : { ...others, [name]: to.trim() }
}
</script>

<template>
  <div>
    <div class="soft s12 mb-1.5">Namespace into</div>
    <div class="flex items-center gap-2">
      <ChoiceBar v-model="place" :choices="PLACES" label="In its place, or beside it" />
      <USelect v-model="source" :items="clusters" aria-label="Into which cluster" class="h-[30px] w-28" />
      <template v-for="name in namespaces" :key="name">
        <span v-if="namespaces.length > 1" class="mono soft">{{ name }} as</span>
        <UInput
          :model-value="cluster.namespaces[name] ?? name"
          :name="`namespace-${name}`"
          :aria-label="`Name of ${name} there`"
          class="mono w-52"
          :ui="{ base: 'h-8' }"
          :maxlength="63"
          @update:model-value="(to) => rename(name, String(to))"
        />
      </template>
    </div>
  </div>
</template>
