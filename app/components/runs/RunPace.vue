<script setup lang="ts">
import { ratesOf } from '~~/core/time/pace'
import type { RunDetail } from '~~/server/views'

// How fast a run went, from its beginning to its end, and which of its steps took the longest.
const { run } = defineProps<{ run: RunDetail }>()
const rates = computed(() => ratesOf(run.pace))
/** Bytes where they are known, else rows and files. */
const inBytes = computed(() => (run.pace.at(-1)?.[1] ?? 0) > 0)
const word = (figure: number) => (inBytes.value ? bytesInWords(figure) : countInWords(Math.round(figure)))
const unit = computed(() => (inBytes.value ? '' : (run.counters.rows ?? 0) > 0 ? ' rows' : ' files'))
const points = computed(() => {
  const all = rates.value.map(({ toMs, bytes, things }) => ({ x: toMs, y: inBytes.value ? bytes : things }))
  return all.length > 0 ? [{ x: 0, y: all[0]!.y }, ...all] : []
})
const fastest = computed(() => points.value.reduce((best, point) => (point.y > best.y ? point : best), { x: 0, y: 0 }))
const mean = computed(() => {
  const [ms = 0, bytes = 0, things = 0] = run.pace.at(-1) ?? []
  return ms > 0 ? (inBytes.value ? bytes : things) / (ms / 1000) : 0
})
const summary = computed(
  () =>
    `${word(mean.value)}${unit.value} a second on average, ${word(fastest.value.y)} at the fastest, ${durationInWords(fastest.value.x)} after it began`,
)
const says = ({ x, y }: { x: number; y: number }) => `after ${durationInWords(x)}: ${word(y)}${unit.value} a second`
</script>

<template>
  <section v-if="points.length > 3 && fastest.y > 0" data-pace>
    <h2 class="flex flex-wrap items-baseline justify-between gap-x-6 pb-1.5">
      <span class="font-semibold">How fast it went</span><span class="soft num text-[13px]">{{ summary }}</span>
    </h2>
    <LazyFigureOverTime
      holds="up to here"
      :points="points"
      :label="`How fast it went: ${summary}`"
      :x-word="(ms) => durationInWords(ms)"
      :y-word="(figure) => `${word(figure)}/s`"
      :says="says"
    />
  </section>
</template>
