<script setup lang="ts">
import { axisTicks } from '~~/core/chain/layout'
import { placeInPlan } from '~~/core/plan/words'
import type { ComingRun, RunRow, Standing } from '~~/server/views'

// What ran in the last 24 hours, and what plans make in the next, one lane a vessel.
const { runs, coming, vessels, now } = defineProps<{ runs: RunRow[]; coming: ComingRun[]; vessels: Standing[]; now: number }>()
const HOUR = 3_600_000
const LABEL = 128
const LANE = 31
const root = useTemplateRef<HTMLElement>('root')
const { width: full } = useElementSize(root)
const width = computed(() => Math.max(400, full.value))
const from = computed(() => now - 24 * HOUR)
/** Without a plan there is nothing to come. */
const ahead = computed(() => (coming.length > 0 ? 24.5 * HOUR : HOUR))
const x = (at: number) => LABEL + ((at - from.value) / (24 * HOUR + ahead.value)) * (width.value - LABEL)
const hours = computed(() => {
  const day = { from: from.value + HOUR, to: now + ahead.value - HOUR / 2, left: 0, right: width.value }
  return axisTicks(day, (coming.length > 0 ? 6 : 3) * HOUR, offsetAt(now))
    .map((at) => new Date(at))
    .filter((hour) => Math.abs(x(hour.getTime()) - x(now)) > 46)
})
const lanes = computed(() =>
  vessels.map((vessel, i) => ({
    vessel,
    y: i * LANE + LANE / 2,
    runs: runs
      .filter((run) => run.slug === vessel.slug)
      .map((run) => {
        const start = Date.parse(run.startedAt ?? run.at)
        return { run, x: x(start), w: Math.max(0, x(run.finishedAt ? Date.parse(run.finishedAt) : now) - x(start)) }
      }),
    coming: coming.filter((run) => run.slug === vessel.slug).map((run) => ({ run, x: x(Date.parse(run.at)) })),
  })),
)
/** Whom a planned run meets at its source. */
const meetsInWords = ({ meets }: ComingRun) =>
  meets.map(({ source, vessels }) => `at the same time as ${listInWords(vessels)} at ${source}`).join('; ')
const meeting = computed(() => coming.filter(({ meets }) => meets.length > 0).length)
const title = computed(() => (coming.length > 0 ? 'The last 24 hours, and the next' : 'The last 24 hours'))
const failed = computed(() => runs.filter((run) => run.state === 'failed').length)
const height = computed(() => vessels.length * LANE)
</script>

<template>
  <section ref="root" class="sheet px-6 pt-2 pb-3" :aria-label="title">
    <h2 class="flex h-7 items-center justify-between">
      <span class="font-semibold">{{ title }}</span>
      <span class="soft s12"
        >{{ plural(runs.length, 'run') }}{{ coming.length > 0 ? `, ${coming.length} planned` : ''
        }}<template v-if="meeting > 0"
          >, <span class="warning" data-meeting>{{ meeting }} of them at the same time at one source</span></template
        ><template v-if="failed > 0"
          >, <span class="error">{{ failed }} failed</span></template
        ></span
      >
    </h2>
    <p v-if="runs.length + coming.length === 0" class="soft py-3 text-[13px]">Nothing ran.</p>
    <svg v-else :width="width" :height="height + 26" class="block overflow-visible">
      <line x1="0" :x2="width" y1="0" y2="0" stroke="var(--line)" />
      <line
        v-for="hour in hours"
        :key="hour.getTime()"
        :x1="x(hour.getTime())"
        :x2="x(hour.getTime())"
        y1="0"
        :y2="height"
        stroke="var(--line)"
        stroke-dasharray="1 4"
      />
      <g v-for="lane in lanes" :key="lane.vessel.id">
        <text x="0" :y="lane.y + 4.5" font-size="13" fill="var(--ink)">{{ lane.vessel.name }}</text>
        <line x1="0" :x2="width" :y1="lane.y + LANE / 2" :y2="lane.y + LANE / 2" stroke="var(--line)" />
        <NuxtLink
          v-for="{ run, x: at, w } in lane.runs"
          :key="run.id"
          :to="`/runs/${run.id}`"
          :aria-label="`${kindOfRun(run)}, ${RUN_STATE[run.state].word}, ${whenOf(run.at)}`"
        >
          <title>{{ kindOfRun(run) }} {{ run.name ?? '' }}, {{ RUN_STATE[run.state].word }}, {{ whenOf(run.at) }}, {{ took(run) }}</title>
          <line :x1="at" :x2="at + w" :y1="lane.y" :y2="lane.y" stroke="var(--soft)" stroke-width="5" />
          <path v-if="run.state === 'failed'" :d="`M${at - 5} ${lane.y - 5}l10 10m0 -10l-10 10`" stroke="var(--error)" stroke-width="2.4" />
          <LifelineMark
            v-else-if="run.kind === 'backup'"
            :x="at"
            :y="lane.y"
            :kind="run.makes ?? 'full'"
            :s="0.8"
            ground="var(--sheet)"
            :hollow="run.state === 'cancelled'"
          />
          <rect
            v-else
            :x="at - 2"
            :y="lane.y - 6"
            width="14"
            height="12"
            rx="3"
            fill="var(--gold-wash)"
            stroke="var(--gold-line)"
            stroke-width="1.4"
          />
        </NuxtLink>
        <g v-for="{ run, x: at } in lane.coming" :key="run.line + run.at" data-planned-mark>
          <title>
            {{ placeInPlan(run, run.what) }}: {{ timeOfPlan(run.at, run.zone) }}{{ run.meets.length > 0 ? `, ${meetsInWords(run)}` : '' }}
          </title>
          <path v-if="run.meets.length > 0" :d="`M${at - 6} ${lane.y + 10}h12`" stroke="var(--warning)" stroke-width="2.4" />
          <circle
            :cx="at"
            :cy="lane.y"
            :r="run.what === 'full' || run.what === 'synthetic' ? 5.6 : 4"
            fill="var(--sheet)"
            stroke="var(--soft)"
            stroke-width="1.4"
            stroke-dasharray="2 2"
          />
        </g>
      </g>
      <line x1="0" :x2="width" :y1="height" :y2="height" stroke="var(--line-strong)" />
      <text
        v-for="hour in hours"
        :key="hour.getTime()"
        :x="x(hour.getTime())"
        :y="height + 17"
        text-anchor="middle"
        font-size="11.5"
        fill="var(--soft)"
      >
        {{ clockOf(hour) === '00:00' ? dateOf(hour) : clockOf(hour) }}
      </text>
      <line :x1="x(now)" :x2="x(now)" y1="0" :y2="height + 5" stroke="var(--ink)" stroke-dasharray="2 3" />
      <text :x="x(now)" :y="height + 17" text-anchor="middle" font-size="11.5" font-weight="600" fill="var(--ink)">now</text>
    </svg>
    <h2 class="mt-4 flex h-7 items-center justify-between">
      <span class="font-semibold">Latest runs</span><NuxtLink to="/runs" class="lnk soft text-[12px]">all of them</NuxtLink>
    </h2>
    <RunList :most="6" empty="Nothing ran yet." />
  </section>
</template>
