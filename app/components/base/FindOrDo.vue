<script setup lang="ts">
import { keysInWords, useCommands, type Command } from '~/stores/commands'
import type { Found, RunRow, Standing } from '~~/server/views'

const { palette: open, backUp } = storeToRefs(useScreen())
const term = ref('')
const vessels = shallowRef<Standing[]>([])
const runs = shallowRef<RunRow[]>([])
const fail = useFailure()
const found = shallowRef<Found[]>([])

watch(
  open,
  async (isOpen) => {
    if (!isOpen) return
    term.value = ''
    const known = await Promise.all([$fetch<Standing[]>('/api/vessels'), $fetch<RunRow[]>('/api/runs')]).catch(fail)
    if (known) [vessels.value, runs.value] = known
  },
  { immediate: true },
)
const begin = newestOf()
watchDebounced(
  term,
  async (text) => {
    const isNewest = begin()
    const things = text.trim().length < 2 ? [] : await $fetch<Found[]>(`/api/find?q=${encodeURIComponent(text)}`).catch(fail)
    if (isNewest()) found.value = things ?? []
  },
  { debounce: 150 },
)

const commands = useCommands()
// What is found has no name of its own for whoever does not see it.
const list = useTemplateRef<HTMLElement>('list')
const name = () => list.value?.querySelector('[role=listbox]')?.setAttribute('aria-label', 'What was found, and what can be done')
useMutationObserver(list, name, { childList: true, subtree: true })
watch(list, () => nextTick(name))

/** Closes the palette and does what was chosen. */
const done = (run: () => void) => () => {
  open.value = false
  run()
}
const go = (to: string) => done(() => void navigateTo(to))
const commandsOn = (place: Command['on']) =>
  commands.listed
    .filter(({ on }) => on === place)
    .map(({ label, icon, keys, run }) => ({ label, icon, kbds: keys.slice(0, 1).flatMap(keysInWords), onSelect: done(run) }))
const MAKES = [
  { label: 'Define a vessel', to: '/vessels/new' },
  { label: 'Connect a source', to: '/sources?connect=1' },
  { label: 'Make a store', to: '/stores?make=1' },
]
const SEES = [
  { label: 'See what goes and what stays', to: '/points', icon: 'i-lucide-hourglass' },
  { label: 'See a month of runs', to: '/runs?view=month', icon: 'i-lucide-calendar-days' },
  { label: 'See where the time of runs goes', to: '/runs?view=statistics', icon: 'i-lucide-chart-column' },
]
const ofVessels = computed(() =>
  vessels.value.flatMap(({ slug, name, newest }) => [
    { label: name, suffix: 'lifeline', icon: 'i-lucide-soup', onSelect: go(`/vessels/${slug}`) },
    { label: `Back up ${name} now`, icon: 'i-lucide-archive', onSelect: done(() => (backUp.value = [{ slug, name }])) },
    ...(newest
      ? [
          { label: `Look into ${name}`, icon: 'i-lucide-table-2', onSelect: go(`/vessels/${slug}/contents`) },
          { label: `Restore from ${name}`, icon: 'i-lucide-undo-2', onSelect: go(`/vessels/${slug}/restore`) },
        ]
      : []),
  ]),
)
/** What the page itself offers, with its key. */
const here = computed(() => commandsOn('this page'))
const groups = computed(() => [
  { id: 'here', label: 'On this page', items: here.value },
  {
    id: 'vessels',
    label: 'Vessels',
    items: ofVessels.value.filter(({ label }) => !here.value.some((item) => item.label === label)),
  },
  {
    id: 'things',
    label: 'Things',
    ignoreFilter: true,
    items: found.value.map(({ path, kind, gone }) => ({
      label: path,
      suffix: gone ? `${kind}, gone` : kind,
      icon: KIND_ICON[kind],
      onSelect: go(thingLink(path)),
    })),
  },
  {
    id: 'runs',
    label: 'Runs',
    items: runs.value.slice(0, 12).map((run) => ({
      label: `${kindOfRun(run)} of ${run.vessel}, ${whenOf(run.at)}`,
      suffix: run.name ?? RUN_STATE[run.state].word,
      icon: RUN_STATE[run.state].icon,
      onSelect: go(`/runs/${run.id}`),
    })),
  },
  {
    id: 'places',
    label: 'Places and actions',
    items: [
      ...commandsOn('every page'),
      ...MAKES.map(({ label, to }) => ({ label, icon: 'i-lucide-plus', onSelect: go(to) })),
      ...SEES.map(({ label, to, icon }) => ({ label, icon, onSelect: go(to) })),
    ],
  },
])
</script>

<template>
  <UModal
    v-model:open="open"
    title="Find or do anything"
    description="Vessels, things, runs, places, actions"
    :ui="{ content: 'max-w-2xl' }"
  >
    <template #content>
      <div ref="list">
        <UCommandPalette
          v-model:search-term="term"
          :groups="groups"
          placeholder="A vessel, a table, a run, something to do…"
          class="h-96"
          :ui="{ input: '[&>input]:h-11' }"
        />
      </div>
    </template>
  </UModal>
</template>
