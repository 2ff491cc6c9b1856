<script setup lang="ts">
import type { StoreView } from '~~/server/views'

// How a store came to hold what it holds now.
const { store } = defineProps<{ store: StoreView }>()
const points = computed(() => store.grown.map(({ until, bytes }) => ({ x: Date.parse(until), y: bytes })))
const WEEK = 7 * 86_400_000
/** What was written within the last week, or since the first file where that is less long ago. */
const lately = computed(() => {
  const { x: now, y: all } = points.value.at(-1)!
  const before = points.value.findLast(({ x }) => x <= now - WEEK)
  return before ? `${bytesInWords(all - before.y)} of it within the last week` : `all of it since ${whenOf(store.grown[0]!.until)}`
})
const says = ({ x, y }: { x: number; y: number }) => `${bytesInWords(y)} written up to ${whenOf(new Date(x))}`
</script>

<template>
  <section data-growth>
    <h3 class="flex flex-wrap items-baseline justify-between gap-x-6 pb-1.5">
      <span class="font-semibold">What it holds, by when it was written</span><span class="soft num">{{ lately }}</span>
    </h3>
    <LazyFigureOverTime
      holds="from here on"
      :points="points"
      :label="`What the store ${store.name} holds, by when it was written: ${bytesInWords(store.bytes)}, ${lately}`"
      :x-word="(at, step) => axisLabel(at, step)"
      :y-word="bytesInWords"
      :says="says"
    />
  </section>
</template>
