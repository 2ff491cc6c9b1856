<script setup lang="ts">
import { namesOf, pathOf } from '~~/core/things/thing'
import type { ThingView } from '~~/server/views'

useHead({ title: 'Sources · Unbroken Vessel' })
const route = useRoute()
const setQuery = useQuery()
const path = computed(() => (Array.isArray(route.params.path) ? route.params.path : [route.params.path ?? '']).filter(Boolean).join('/'))
const names = computed(() => (path.value ? namesOf(path.value) : []))
/** The containers whose columns are open: the sources, and every container on the way to the selected thing. */
const opened = computed(() =>
  [null, ...names.value.map((_, i) => pathOf(...names.value.slice(0, i + 1)))].slice(0, isCluster.value ? 3 : 4),
)
const isCluster = computed(() => source.value?.kind === 'kubernetes')
const { data: sources, error } = useSources({ tells: true })
const sheet = (name: string) =>
  computed({
    get: () => route.query[name] !== undefined,
    set: (open) => void setQuery({ [name]: open ? '1' : undefined }),
  })
const connecting = sheet('connect')
const changing = sheet('reach')
const selected = shallowRef<ThingView | null>(null)
const among = shallowRef<ThingView[]>([])
function select(thing: ThingView | null, beside: ThingView[]) {
  selected.value = thing
  among.value = beside
}
const source = computed(() => sources.value?.find(({ name }) => name === names.value[0]) ?? null)

// What is picked to be protected together.
const tray = ref<string[]>([])
function pick(thing: string) {
  tray.value = tray.value.includes(thing) ? tray.value.filter((other) => other !== thing) : [...tray.value, thing]
}
const totals = shallowRef<ThingView[]>([])
const sumOf = (kind: ThingView['kind']) => totals.value.reduce((sum, thing) => sum + (thing.kind === kind ? thing.tables : 0), 0)
</script>

<template>
  <main class="flex h-[calc(100vh-52px)] flex-col">
    <div class="flex items-start justify-between gap-6 px-6 pt-[11px] pb-3">
      <PageSentence>
        <template v-if="sources?.length === 0">Nothing is connected yet.</template>
        <template v-else-if="sources"
          >{{ capital(numberInWords(sources.length)) }} {{ sources.length === 1 ? 'source' : 'sources' }},
          {{ bytesInWords(totals.reduce((sum, thing) => sum + thing.bytes, 0)) }} in {{ plural(sumOf('server'), 'table')
          }}<template v-if="sumOf('cluster') > 0">
            and {{ plural(sumOf('cluster'), 'thing') }} of
            {{ totals.filter(({ kind }) => kind === 'cluster').length === 1 ? 'a cluster' : 'clusters' }}</template
          ><template v-if="totals.some((thing) => thing.cover !== 'all')"
            >; <NuxtLink to="/" style="border-color: var(--warning)">some of it unprotected</NuxtLink></template
          >.</template
        >
      </PageSentence>
      <UButton @click="connecting = true">Connect a source</UButton>
    </div>
    <ErrorNote v-if="error && !sources" :error="error" class="mx-6" />
    <p v-else-if="sources?.length === 0" class="soft max-w-xl px-6 py-4">
      Connect a PostgreSQL server or a cluster first. What is in it is then listed here, with the vessels that protect it.
    </p>
    <div v-else class="flex min-h-0 flex-1 border-t border-[var(--line)]">
      <div class="flex min-w-0 flex-1 overflow-x-auto">
        <ThingColumn
          v-for="(container, i) in opened"
          :key="container ?? 'sources'"
          :container="container"
          :open="opened[i + 1] ?? null"
          :path="path"
          :tray="tray"
          @selected="select"
          @pick="pick"
          @loaded="container === null && (totals = $event)"
        />
      </div>
      <ThingFacts :thing="selected" :source="source" :among="among" @reach="changing = true" />
    </div>
    <div v-if="tray.length > 0" class="sheet flex items-center gap-4 px-6 py-2.5 text-[13px]">
      <b class="shrink-0 font-semibold">{{ plural(tray.length, 'thing') }} picked</b>
      <span class="mono cut flex-1">{{ tray.join(', ') }}</span>
      <button class="lnk" @click="tray = []">Clear</button>
      <UButton color="primary" variant="solid" :to="{ path: '/vessels/new', query: { take: tray } }">Protect together…</UButton>
    </div>
    <ConnectSource v-model:open="connecting" />
    <ConnectSource v-if="source" :key="source.id" v-model:open="changing" :source="source" />
  </main>
</template>
