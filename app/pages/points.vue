<script setup lang="ts">
import type { NotableView } from '~~/server/views'

// Points that somebody may want to look at: before they go, or because they stay.
useHead({ title: 'What goes and what stays · Unbroken Vessel' })
const { data, error, refresh } = useLoad<NotableView>('/api/points/notable', { tells: true })
onChange(({ about }) => about === 'vessel' || about === 'store', refresh, 3000)
const LISTS = [
  { of: 'soon', title: 'Goes within a week', about: 'by itself, unless somebody pins it', none: 'Nothing goes within a week.' },
  { of: 'pinned', title: 'Pinned', about: 'stays, whatever the rules say', none: 'Nothing is pinned.' },
  {
    of: 'byHand',
    title: 'Made by hand, more than a month ago',
    about: 'the largest first; what a plan makes is not among it',
    none: 'Nothing was kept by hand for so long.',
  },
] as const
const FIRST = 8
const open = ref<string[]>([])
const goes = (until: string | null) =>
  until === null ? 'stays' : Date.parse(until) === 0 ? 'goes with the next prune' : `goes ${whenOf(until)}`
const sentence = computed(() => {
  if (!data.value) return ''
  const { soon, pinned } = data.value
  return `${soon.count === 0 ? 'No point goes' : `${capital(countInWords(soon.count))} ${soon.count === 1 ? 'point goes' : 'points go'}`} within a week; ${pinned.count === 0 ? 'none is' : `${numberInWords(pinned.count)} ${pinned.count === 1 ? 'is' : 'are'}`} pinned.`
})
</script>

<template>
  <main class="px-6 pt-4 pb-8">
    <PageSentence v-if="data" class="pb-4">{{ sentence }}</PageSentence>
    <ErrorNote v-if="error && !data" :error="error" />
    <div v-else-if="!data" class="grid gap-3" aria-busy="true"><USkeleton v-for="i in 3" :key="i" class="h-24 w-full" /></div>
    <template v-else>
      <section v-for="list in LISTS" :key="list.of" class="mb-8 text-[13px]" :aria-label="list.title" :data-notable="list.of">
        <h2 class="flex items-baseline justify-between gap-6 border-b border-[var(--line)] pb-[7px]">
          <span
            ><span class="text-[15px] font-semibold">{{ list.title }}</span> <span class="soft ml-2">{{ list.about }}</span></span
          >
          <span v-if="data[list.of].count > 0" class="soft num"
            >{{ plural(data[list.of].count, 'point') }}, {{ bytesInWords(data[list.of].stored) }}</span
          >
        </h2>
        <p v-if="data[list.of].count === 0" class="soft py-3">{{ list.none }}</p>
        <ul class="rule">
          <li
            v-for="point in data[list.of].points.slice(0, open.includes(list.of) ? undefined : FIRST)"
            :key="point.id"
            class="grid min-h-9 grid-cols-[180px_150px_170px_minmax(0,1fr)_90px] items-center gap-4 py-1"
            data-row
          >
            <NuxtLink :to="`/vessels/${point.slug}`" class="cut hover:underline">{{ point.vessel }}</NuxtLink>
            <NuxtLink :to="`/vessels/${point.slug}?at=${point.at}`" class="font-medium hover:underline">{{ whenOf(point.at) }}</NuxtLink>
            <span>{{ goes(point.until) }}</span>
            <span class="cut soft" :title="point.pin ?? undefined"
              >{{ point.pin ? `pinned: ${point.pin}` : (point.name ?? 'by hand')
              }}<span v-if="!point.isGood" class="warning">, not whole</span></span
            >
            <span class="num">{{ bytesInWords(point.stored) }}</span>
          </li>
        </ul>
        <button v-if="data[list.of].points.length > FIRST && !open.includes(list.of)" class="lnk soft s12 mt-2" @click="open.push(list.of)">
          {{ data[list.of].points.length - FIRST }} more
        </button>
        <p v-if="open.includes(list.of) && data[list.of].count > data[list.of].points.length" class="soft s12 mt-2">
          and {{ countInWords(data[list.of].count - data[list.of].points.length) }} more, which are not shown
        </p>
      </section>
    </template>
  </main>
</template>
