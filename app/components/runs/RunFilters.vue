<script setup lang="ts">
// Which runs are shown; all of it stands in the address.
const { onlyCounted = false } = defineProps<{ /** Only what runs are counted by: kinds, and vessels. */ onlyCounted?: boolean }>()
const route = useRoute()
const setQuery = useQuery()
const { data: vessels } = useVessels()
const KINDS = [
  ['backup', 'Backups'],
  ['restore', 'Restores'],
  ['undo', 'Undos'],
  ['rehearsal,hold', 'Rehearsals'],
  ['fetch', 'Fetches'],
  ['verify,reindex', 'Verifications'],
  ['prune', 'Prunes'],
  ['audit', 'Audits'],
] as const
const STATES = [
  ['running,waiting', 'running'],
  ['done', 'done'],
  ['warned', 'with warnings'],
  ['failed', 'failed'],
  ['cancelled', 'cancelled'],
] as const
const chosen = (name: string) => String(route.query[name] ?? '')
const toggle = (name: string, value: string) => void setQuery({ [name]: chosen(name) === value ? undefined : value })

const ANY = 'any'
const VESSELS = computed(() => [
  { label: 'Any vessel', value: ANY },
  ...(vessels.value ?? []).map(({ slug, name }) => ({ label: name, value: slug })),
])
const vessel = computed({
  get: () => chosen('vessel') || ANY,
  set: (slug: string) => void setQuery({ vessel: slug === ANY ? undefined : slug }),
})

const text = ref(chosen('text'))
watchDebounced(text, (now) => void setQuery({ text: now.trim() || undefined }), { debounce: 250 })
watch(
  () => chosen('text'),
  (now) => now !== text.value.trim() && (text.value = now),
)

const GROUPS = [
  ['kinds', KINDS],
  ['states', STATES],
] as const

/** A time as it is written by a person; what can't be read is told, and filters nothing. */
function useTimeField(name: 'from' | 'to') {
  const asWritten = () => chosen(name) && whenOf(chosen(name))
  const written = ref(asWritten())
  const trouble = ref('')
  watch(
    () => chosen(name),
    () => ((written.value = asWritten()), (trouble.value = '')),
  )
  function read(): void {
    const wanted = written.value.trim()
    const { at, trouble: why } = wanted ? readTime(wanted) : { at: null, trouble: null }
    trouble.value = why ?? ''
    if (at || !wanted) void setQuery({ [name]: at?.toISOString() })
    if (at) written.value = whenOf(at)
  }
  return { name, written, trouble, read }
}
const TIMES = [
  { ...useTimeField('from'), label: 'From', hint: 'from, as in yesterday 8:00' },
  { ...useTimeField('to'), label: 'Up to', hint: 'up to, as in 9:41' },
]
const isFiltered = computed(() => ['kinds', 'states', 'vessel', 'text', 'from', 'to'].some((name) => chosen(name)))
function clear(): void {
  text.value = ''
  for (const { written, trouble } of TIMES) written.value = trouble.value = ''
  void setQuery({}, 'only')
}
</script>

<template>
  <div class="mt-3 mb-3 grid gap-2.5 text-[13px]" role="group" aria-label="Filters">
    <div class="flex flex-wrap items-center gap-x-5 gap-y-2">
      <template v-for="[name, all] in GROUPS.filter((_, i) => i === 0 || !onlyCounted)" :key="name">
        <span v-if="name === 'states'" class="h-4 border-l border-[var(--line-strong)]" />
        <button
          v-for="[value, label] in all"
          :key="value"
          :aria-pressed="chosen(name) === value"
          class="border-b-2"
          :class="chosen(name) === value ? 'border-[var(--ink)] font-semibold' : 'soft border-transparent hover:text-[var(--ink)]'"
          @click="toggle(name, value)"
        >
          {{ label }}
        </button>
      </template>
    </div>
    <div class="flex flex-wrap items-start gap-2.5">
      <USelect v-model="vessel" :items="VESSELS" size="sm" class="w-44" aria-label="Vessel" />
      <div v-for="{ name, label, hint, written, trouble, read } in onlyCounted ? [] : TIMES" :key="name" class="w-52">
        <UInput
          v-model="written.value"
          :name="name"
          size="sm"
          class="w-full"
          :placeholder="hint"
          :aria-label="label"
          :aria-invalid="trouble.value !== ''"
          @change="read"
        />
        <p v-if="trouble.value" class="error s12 pt-1" role="alert">{{ trouble.value }}</p>
      </div>
      <UInput
        v-if="!onlyCounted"
        v-model="text"
        name="text"
        size="sm"
        icon="i-lucide-search"
        class="w-56"
        placeholder="a name, a reason, a failure"
        aria-label="Text"
        maxlength="200"
      />
      <button v-if="isFiltered" class="lnk h-7" @click="clear">Show all runs</button>
    </div>
  </div>
</template>
