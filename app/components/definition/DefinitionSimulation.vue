<script setup lang="ts">
import { comingPlaces } from '~~/core/plan/cycle'
import { meetings, type ExpectedRun } from '~~/core/plan/collide'
import { spreadOf } from '~~/core/plan/due'
import { takesFromSource } from '~~/core/plan/paused'
import { scheduleTroubles } from '~~/core/plan/schedule'
import type { ComingRun } from '~~/server/views'
import type { SimulatedDay } from '~~/core/plan/simulate'

// What the plan will mean in a year, reckoned from what was measured.
const { result, sizes, price } = useSimulation()
const days = computed(() => result.value?.now.days ?? [])
const SHOWN = [30, 90, SIMULATED_DAYS]
const counted = ({ points }: SimulatedDay) => Object.values(points).reduce((sum, count) => sum + count, 0)
const spent = (upTo: number) => days.value.slice(0, upTo).reduce((sum, day) => sum + day.cost, 0)
const costWord = (cost: number) => cost.toLocaleString('en-GB', { maximumFractionDigits: cost < 10 ? 2 : 0 })
const columns = computed(() =>
  SHOWN.flatMap((count) => {
    const day = days.value[count - 1]
    const word = count === SIMULATED_DAYS ? 'a year' : `${count} days`
    return day ? [{ word, day, points: counted(day), cost: spent(count) }] : []
  }),
)
const points = computed(() => days.value.map(({ at, storedBytes }) => ({ x: at, y: storedBytes })))
const says = ({ x, y }: { x: number; y: number }) => `about ${bytesInWords(y)} on ${dateOf(new Date(x))}`
/** What differs from the saved version at the end of the year. */
const difference = computed(() => {
  const [now, saved] = [days.value.at(-1), result.value?.saved?.at(-1)]
  if (!now || !saved) return ''
  const more = (count: number, word: (count: number) => string) => `${word(Math.abs(count))} ${count > 0 ? 'more' : 'less'}`
  const [bytes, made] = [now.storedBytes - saved.storedBytes, counted(now) - counted(saved)]
  const parts = [
    ...(Math.abs(bytes) > 0.005 * saved.storedBytes ? [more(bytes, bytesInWords)] : []),
    ...(made === 0 ? [] : [`${plural(Math.abs(made), 'point')} ${made > 0 ? 'more' : 'less'}`]),
  ]
  return parts.length > 0 ? `In a year ${listInWords(parts)} than as saved.` : 'In a year as much as it would be as saved.'
})
const worst = computed(() => ({
  back: Math.max(0, ...days.value.map((day) => day.worstBackMs)),
  // Before the first point of the plan there may be none at all.
  loss: Math.max(0, ...days.value.slice(1).map((day) => day.worstLossMs)),
  read: Math.max(0, ...days.value.map((day) => day.worstReadBytes)),
}))
/** Whom its runs of the next week meet at their sources, and for how long. */
const draft = useDraft()
const { data: vessels } = useVessels()
const { data: coming } = useLoad<ComingRun[]>('/api/coming-runs')
const WEEK = 7 * 86_400_000
/** A run of which nothing was measured yet. */
const UNKNOWN_MS = 60_000
const met = computed(() => {
  const { schedule, rules } = draft.definition
  if (!schedule || !coming.value || scheduleTroubles(schedule).length > 0) return null
  const takes = takesFromSource({ rules })
  const sources = (draft.sources ?? []).map(({ name }) => name).filter(takes)
  const own = coming.value.filter(({ slug }) => slug === draft.slug)
  const expected = ({ at, forMs, vessel, sources: from }: ComingRun): ExpectedRun => ({
    at: Date.parse(at),
    forMs: forMs ?? UNKNOWN_MS,
    vessel,
    sources: from,
  })
  const now = Date.now()
  const runs = schedule.lines.flatMap((line) => {
    // Each vessel begins at a time of its own within a window.
    const spread = spreadOf(line, vessels.value?.find(({ slug }) => slug === draft.slug)?.id ?? '')
    const found: ExpectedRun[] = []
    for (const { at, what } of comingPlaces(schedule, line, draft.scheduled?.last[line.id] ?? null, now - spread)) {
      if (at + spread > now + WEEK) break
      found.push({ at: at + spread, forMs: own.find((run) => run.what === what)?.forMs ?? UNKNOWN_MS, vessel: '', sources })
    }
    return found
  })
  return meetings(runs, coming.value.filter(({ slug }) => slug !== draft.slug).map(expected))
})
const metWords = computed(() =>
  met.value && met.value.meets.length > 0
    ? `In the next week its runs meet ${listInWords(met.value.meets.map(({ source, vessels }) => `${listInWords(vessels)} at ${source}`))}, for ${durationInWords(met.value.forMs)} in all.`
    : '',
)
const readCost = computed(() => (price.value?.perGbRead ? costWord((worst.value.read / 1e9) * price.value.perGbRead) : null))
</script>

<template>
  <section v-if="columns.length > 0" class="mt-4" data-simulation aria-label="In the coming year">
    <h3 class="flex items-baseline justify-between pb-1.5">
      <span class="font-semibold">In the coming year</span><span class="soft">if every run succeeds</span>
    </h3>
    <table class="w-full border-y border-[var(--line)] text-[13px]">
      <thead>
        <tr class="soft text-left">
          <th class="py-1 font-normal">after</th>
          <th v-for="{ word } in columns" :key="word" class="num py-1 text-right font-normal">{{ word }}</th>
        </tr>
      </thead>
      <tbody class="rule">
        <tr>
          <th class="soft py-1 text-left font-normal">points</th>
          <td v-for="column in columns" :key="column.word" class="num py-1 text-right">{{ countInWords(column.points) }}</td>
        </tr>
        <tr>
          <th class="soft py-1 text-left font-normal">in the store</th>
          <td v-for="column in columns" :key="column.word" class="num py-1 text-right font-semibold">
            {{ bytesInWords(column.day.storedBytes) }}
          </td>
        </tr>
        <tr v-if="price">
          <th class="soft py-1 text-left font-normal">spent on it</th>
          <td v-for="column in columns" :key="column.word" class="num py-1 text-right">{{ costWord(column.cost) }}</td>
        </tr>
      </tbody>
    </table>
    <LazyFigureOverTime
      class="mt-3"
      holds="from here on"
      :points="points"
      :label="`What the points of this plan would take in the store over a year: ${columns.map(({ word, day }) => `${bytesInWords(day.storedBytes)} after ${word}`).join(', ')}`"
      :x-word="(at, step) => axisLabel(at, step)"
      :y-word="bytesInWords"
      :says="says"
    />
    <p v-if="difference" class="mt-2 font-medium" data-difference>{{ difference }}</p>
    <p v-if="metWords" class="warning mt-2 leading-[18px]" data-meets>{{ metWords }}</p>
    <p class="soft mt-2 leading-[18px]">
      Everything back in {{ durationInWords(worst.back) }} at worst, with its longest chain; {{ durationInWords(worst.loss) }} could be lost
      at worst.<template v-if="readCost"> To read it all once, {{ bytesInWords(worst.read) }}, costs {{ readCost }}.</template>
      {{
        sizes.assumed.length > 0
          ? `Assumed, because nothing was measured yet: ${listInWords(sizes.assumed)}.`
          : 'Sizes and changes are those that its backups had so far.'
      }}
    </p>
  </section>
</template>
