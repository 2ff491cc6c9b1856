<script setup lang="ts">
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
  read: Math.max(0, ...days.value.map((day) => day.worstReadBytes)),
}))
const meets = useMeetings()
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
    <p v-if="meets" class="warning mt-2 leading-[18px]" data-meets>{{ meets }}</p>
    <p class="soft mt-2 leading-[18px]">
      Everything back in {{ durationInWords(worst.back) }} at worst, with its longest chain.<template v-if="readCost">
        To read it all once, {{ bytesInWords(worst.read) }}, costs {{ readCost }}.</template
      >
      {{
        sizes.assumed.length > 0
          ? `Assumed, because nothing was measured yet: ${listInWords(sizes.assumed)}.`
          : 'Sizes and changes are those that its backups had so far.'
      }}
    </p>
  </section>
</template>
