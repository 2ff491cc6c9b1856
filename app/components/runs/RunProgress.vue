<script setup lang="ts">
import type { RunDetail } from '~~/server/views'

// Progress in lines, where several kinds of work are done; never one for all.
const { run, now } = defineProps<{ run: RunDetail; now: number }>()
interface Line {
  label: string
  done: number
  expected: number
  text: string
}

type Counted = 'files kept' | 'objects' | 'structures' | 'rows' | 'rows checked' | 'files' | 'files checked' | 'bytes' | 'packs'
const LABELS: Record<RunDetail['kind'], Partial<Record<Counted, string>>> = {
  backup: { rows: 'Rows captured', files: 'Files captured' },
  restore: {
    'files kept': 'Files kept',
    objects: 'Objects made',
    structures: 'Structures made',
    rows: 'Rows loaded',
    'rows checked': 'Rows read back',
    files: 'Files written',
    'files checked': 'Files read back',
  },
  rehearsal: { objects: 'Objects asked for', rows: 'Rows read', files: 'Files read' },
  verify: { bytes: 'Bytes read' },
  undo: { rows: 'Rows undone' },
  fetch: { files: 'Files read' },
  hold: {},
  audit: { rows: 'Rows read at the source' },
  reindex: { packs: 'Files read' },
  prune: { packs: 'Files gone' },
}
const count = (name: string) => run.counters[name] ?? 0
const elapsed = computed(() => (run.startedAt ? Math.max(0, now - Date.parse(run.startedAt)) : 0))

const lines = computed((): Line[] => {
  const all = Object.entries(LABELS[run.kind]).map(([name, label]): Line => {
    const [done, expected] = [count(name), count(`${name} expected`)]
    const word = name === 'bytes' ? bytesInWords : countInWords
    // What is captured was counted or estimated shortly before.
    const about = run.kind === 'backup' || run.kind === 'fetch' ? 'about ' : ''
    return { label, done, expected, text: expected > 0 ? `${word(done)} of ${about}${word(expected)}` : `${word(done)} so far` }
  })
  const known = all.filter(({ done, expected }) => done + expected > 0)
  return known.length > 0 ? known : all.slice(-1)
})

const share = computed(() => shareOf(run.counters) ?? 0)
/** Since when it is watched going on; what came before that, such as keeping what will be overwritten, says nothing of its pace. */
const since = shallowRef<{ at: number; share: number } | null>(null)
watch(
  share,
  (share) => {
    if (share > 0 && (since.value === null || share < since.value.share)) since.value = { at: Date.now(), share }
  },
  { immediate: true },
)
/** What remains at the pace that it has; not told before there is one to speak of. */
const left = computed(() => {
  if (share.value >= 1) return 'finishing'
  const watched = since.value ? { ms: now - since.value.at, share: share.value - since.value.share } : null
  if (!watched || watched.share <= 0 || watched.ms < 2000) return 'time left is not known yet'
  return `about ${durationInWords((watched.ms / watched.share) * (1 - share.value))} left`
})
const summary = computed(() => {
  const bytes = count('bytes')
  const rate = elapsed.value > 1000 && bytes > 0 ? [`${bytesInWords((bytes / elapsed.value) * 1000)} a second`] : []
  const sum = bytes > 0 && run.kind !== 'verify' ? [bytesInWords(bytes)] : []
  return [...sum, ...rate, left.value].join(', ')
})
</script>

<template>
  <div class="grid gap-3" aria-live="polite">
    <div v-for="line in lines" :key="line.label" class="grid grid-cols-[132px_1fr_auto] items-center gap-x-5 text-[13px]">
      <span class="font-medium">{{ line.label }}</span>
      <span
        class="relative h-[5px] border-b border-[var(--line-strong)]"
        role="progressbar"
        :aria-label="line.label"
        :aria-valuenow="line.done"
        :aria-valuemax="line.expected || 1"
      >
        <span
          class="absolute bottom-[-2px] left-0 h-[5px] bg-[var(--glaze)] transition-[width] duration-500"
          :style="{ width: `${Math.min(100, line.expected ? (line.done / line.expected) * 100 : 0)}%` }"
        />
      </span>
      <span class="num min-w-48">{{ line.text }}</span>
    </div>
    <p class="soft text-[13px]">{{ summary }}</p>
  </div>
</template>
