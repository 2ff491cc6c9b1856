<script setup lang="ts">
import type { RunDetail } from '~~/server/views'

// Progress in two lines where two kinds of work are done; never one for both.
const { run, now } = defineProps<{ run: RunDetail; now: number }>()
interface Line {
  label: string
  done: number
  expected: number
  text: string
  left: string
}

const count = (name: string) => run.counters[name] ?? 0
const elapsed = computed(() => (run.startedAt ? Math.max(0, now - Date.parse(run.startedAt)) : 0))

/** What remains at the rate so far; not told before there is a rate to speak of. */
function remaining(done: number, expected: number): string {
  if (expected === 0 || done === 0 || elapsed.value < 2000) return 'time left is not known yet'
  if (done >= expected) return 'finishing'
  return `about ${durationInWords((elapsed.value / done) * (expected - done))} left`
}
const rate = computed(() =>
  elapsed.value > 1000 && count('bytes') > 0 ? `${bytesInWords((count('bytes') / elapsed.value) * 1000)} a second` : '',
)

const lines = computed((): Line[] => {
  const rows: Line = {
    label: {
      backup: 'Rows captured',
      restore: 'Rows loaded',
      rehearsal: 'Rows read',
      verify: 'Bytes read',
      undo: 'Rows undone',
      still: '',
      fetch: '',
    }[run.kind],
    done: run.kind === 'verify' ? count('bytes') : count('rows'),
    expected: run.kind === 'verify' ? count('bytes expected') : count('rows expected'),
    text: '',
    left: '',
  }
  rows.text =
    run.kind === 'verify'
      ? `${bytesInWords(rows.done)} of ${bytesInWords(rows.expected)}`
      : `${countInWords(rows.done)} of ${run.kind === 'backup' ? 'about ' : ''}${countInWords(rows.expected)}, ${bytesInWords(count('bytes'))}`
  rows.left = remaining(rows.done, rows.expected)
  if (run.kind !== 'restore') return [rows]
  const structures = { label: 'Structures made', done: count('structures'), expected: count('structures expected'), left: '' }
  return [{ ...structures, text: `${countInWords(structures.done)} of ${countInWords(structures.expected)}` }, rows]
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
      <span class="num min-w-72">{{ line.text }}</span>
    </div>
    <p class="soft text-[13px]">
      <template v-if="rate">{{ rate }}, </template>{{ lines.at(-1)!.left }}
    </p>
  </div>
</template>
