<script setup lang="ts">
import { toCalendarDate } from '@internationalized/date'
import type { Phase, RunFigures } from '~~/server/views'

// Where the time of runs goes, and what they move, over the last weeks.
const WEEKS = 4
const route = useRoute()
const today = computed(() => toCalendarDate(zoned(Date.now())))
const days = computed(() => Array.from({ length: WEEKS * 7 }, (_, i) => today.value.subtract({ days: WEEKS * 7 - 1 - i })))
const address = computed(() => {
  const at = (day: (typeof days.value)[number]) => day.toDate(zoneInUse.value).toISOString()
  const query = new URLSearchParams({ zone: zoneInUse.value, since: at(days.value[0]!), until: at(today.value.add({ days: 1 })) })
  query.set('kinds', String(route.query.kinds ?? 'backup'))
  if (route.query.vessel) query.set('vessel', String(route.query.vessel))
  return `/api/runs/figures?${query.toString()}`
})
const { data, error, refresh } = useLoad<RunFigures[]>(address, { tells: true })
onChange((change) => change.about === 'run' && change.state !== 'running', refresh, 5000)
const byDay = computed(() => new Map((data.value ?? []).map((figures) => [figures.day, figures])))
const valuesOf = (of: (figures: RunFigures) => number) => days.value.map((day) => of(byDay.value.get(day.toString()) ?? NONE))
const NONE: RunFigures = { day: '', runs: 0, seconds: {}, read: 0, stored: 0 }
const sum = (values: number[]) => values.reduce((all, value) => all + value, 0)

/** What a phase is called, and its colour; neighbours differ in lightness. */
const PHASE: Record<Phase, [word: string, color: string]> = {
  wait: ['waits to begin', '--line-strong'],
  hold: ['holds and releases', '--hold'],
  structure: ['reads the structure', '--soft'],
  rows: ['reads rows and files, and stores them', '--glaze'],
  log: ['reads the log', '--ink'],
  compute: ['computes what changed', '--warning'],
  write: ['writes at the source', '--gold'],
  check: ['checks what is stored', '--edge'],
  record: ['writes the record', '--band'],
  other: ['all else', '--line'],
}
const phases = computed(() =>
  (Object.keys(PHASE) as Phase[])
    .map((phase) => ({ phase, name: PHASE[phase][0], color: PHASE[phase][1], values: valuesOf(({ seconds }) => seconds[phase] ?? 0) }))
    .map((line) => ({ ...line, total: sum(line.values) }))
    .filter(({ total }) => total > 0)
    .sort((a, b) => b.total - a.total),
)
const total = computed(() => sum(phases.value.map((line) => line.total)))
const runs = computed(() => sum(valuesOf((figures) => figures.runs)))
const [read, stored] = [computed(() => valuesOf((figures) => figures.read)), computed(() => valuesOf((figures) => figures.stored))]
const seconds = (count: number) => durationInWords(count * 1000)

/** The last week beside the one before it; null where there is too little to tell. */
function trend(values: number[]): string | null {
  const [before, last] = [sum(values.slice(-14, -7)), sum(values.slice(-7))]
  if (before === 0 || last === 0) return null
  const change = Math.round((last / before - 1) * 100)
  return Math.abs(change) < 5
    ? 'as much in the last week as in the one before'
    : `${Math.abs(change)} % ${change > 0 ? 'more' : 'less'} in the last week than in the one before`
}
const perDay = computed(() => days.value.map((_, i) => sum(phases.value.map(({ values }) => values[i]!))))
const timeWords = computed(() => {
  const [longest] = phases.value
  if (!longest) return ''
  const share = Math.round((longest.total / total.value) * 100)
  const by = trend(perDay.value)
  return `${plural(runs.value, route.query.kinds ? 'run' : 'backup')} took ${seconds(total.value)}. The longest part, ${share} %, ${longest.name}.${by ? ` They took ${by}.` : ''}`
})
const movedWords = computed(() => {
  const by = trend(stored.value)
  return `${bytesInWords(sum(read.value))} were read, and ${bytesInWords(sum(stored.value))} of it were new in the store.${by ? ` What is new is ${by}.` : ''}`
})
const labels = computed(() => days.value.map((day) => dateOf(day.toDate(zoneInUse.value))))
</script>

<template>
  <section class="mt-4 grid gap-7" aria-label="Statistics" data-statistics>
    <ErrorNote v-if="error && !data" :error="error" />
    <USkeleton v-else-if="!data" class="h-72 w-full" />
    <p v-else-if="runs === 0" class="soft text-[13px]">No such run began in the last {{ WEEKS }} weeks.</p>
    <template v-else>
      <div>
        <h2 class="flex items-baseline justify-between gap-6 border-b border-[var(--line)] pb-1.5">
          <span class="font-semibold">Where the time goes</span><span class="soft s12">each day of the last {{ WEEKS }} weeks</span>
        </h2>
        <p class="py-2 text-[13px]" data-time-words>{{ timeWords }}</p>
        <div class="grid grid-cols-[minmax(0,1fr)_300px] gap-8">
          <LazyBarsOverTime
            class="h-60!"
            :days="labels"
            :series="phases"
            stacked
            :label="`Where the time goes: ${timeWords}`"
            :y-word="seconds"
          />
          <ul class="rule self-start border-y border-[var(--line)] text-[13px]">
            <li v-for="line in phases" :key="line.phase" class="flex items-center gap-2 py-1.5" data-row>
              <span class="size-2.5 shrink-0" :style="{ background: `var(${line.color})` }" />
              <span class="flex-1">{{ line.name }}</span><span class="num">{{ seconds(line.total) }}</span>
            </li>
          </ul>
        </div>
      </div>
      <div>
        <h2 class="border-b border-[var(--line)] pb-1.5 font-semibold">What was read, and what was stored</h2>
        <p class="py-2 text-[13px]" data-moved-words>{{ movedWords }}</p>
        <div class="grid grid-cols-[minmax(0,1fr)_300px] gap-8">
          <LazyBarsOverTime
            :days="labels"
            :series="[
              { name: 'read', values: read, color: '--soft' },
              { name: 'new in the store', values: stored, color: '--glaze' },
            ]"
            :label="movedWords"
            :y-word="bytesInWords"
          />
          <ul class="rule self-start border-y border-[var(--line)] text-[13px]">
            <li
              v-for="[name, color, values] in [['read', '--soft', read] as const, ['new in the store', '--glaze', stored] as const]"
              :key="name"
              class="flex items-center gap-2 py-1.5"
            >
              <span class="size-2.5 shrink-0" :style="{ background: `var(${color})` }" /><span class="flex-1">{{ name }}</span
              ><span class="num">{{ bytesInWords(sum(values)) }}</span>
            </li>
          </ul>
        </div>
      </div>
    </template>
  </section>
</template>
