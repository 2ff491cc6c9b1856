<script setup lang="ts">
import { CalendarDate, endOfMonth, startOfMonth, startOfWeek, toCalendarDate } from '@internationalized/date'
import type { RunDay } from '~~/server/views'

// A month of runs, a cell for each day; a day opens its list.
const route = useRoute()
const setQuery = useQuery()
const today = computed(() => toCalendarDate(zoned(Date.now())))
const first = computed(() => {
  const [year, month] =
    /^(\d{4})-(\d\d)$/
      .exec(String(route.query.month ?? ''))
      ?.slice(1)
      .map(Number) ?? []
  return year && month && month <= 12 ? new CalendarDate(year, month, 1) : startOfMonth(today.value)
})
const from = computed(() => startOfWeek(first.value, 'en-GB'))
const cells = computed(() => {
  const weeks = Math.ceil((endOfMonth(first.value).compare(from.value) + 1) / 7)
  return Array.from({ length: weeks * 7 }, (_, i) => from.value.add({ days: i }))
})
const at = (day: CalendarDate) => day.toDate(zoneInUse.value).toISOString()
const address = computed(() => {
  const query = new URLSearchParams({ zone: zoneInUse.value, since: at(from.value), until: at(cells.value.at(-1)!.add({ days: 1 })) })
  for (const name of ['vessel', 'kinds']) if (route.query[name]) query.set(name, String(route.query[name]))
  return `/api/runs/days?${query.toString()}`
})
const { data, error, refresh } = useLoad<RunDay[]>(address, { tells: true })
onChange((change) => change.about === 'run', refresh, 3000)
const byDay = computed(() => new Map((data.value ?? []).map((day) => [day.day, day])))

const TOLD = ['failed', 'missed', 'warned', 'done', 'cancelled', 'open'] as const
const LOOK = {
  ...RUN_STATE,
  open: { ...RUN_STATE.running, word: 'going on' },
  missed: { word: 'not run', color: 'var(--warning-text)', icon: 'i-lucide-circle-dashed' },
}
const lines = (day: CalendarDate) => {
  const counts = byDay.value.get(day.toString())
  return counts ? TOLD.flatMap((state) => (counts[state] > 0 ? [{ state, count: counts[state], ...LOOK[state] }] : [])) : []
}
const wordsOf = (day: CalendarDate) =>
  [longDayOf(at(day)), ...lines(day).map(({ count, word }) => `${count} ${word}`)].join(', ') + (lines(day).length === 0 ? ', no run' : '')
const monthName = computed(() =>
  new Intl.DateTimeFormat('en-GB', { month: 'long', year: 'numeric', timeZone: 'UTC' }).format(first.value.toDate('UTC')),
)
const go = (months: number) => void setQuery({ month: first.value.add({ months }).toString().slice(0, 7) })
const show = (day: CalendarDate) => void setQuery({ view: undefined, month: undefined, from: at(day), to: at(day.add({ days: 1 })) })
const DAYS = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']
const isOther = (day: CalendarDate) => day.month !== first.value.month
</script>

<template>
  <section class="mt-4" aria-label="Runs of a month">
    <div class="flex items-center gap-2 pb-2">
      <UButton size="sm" variant="ghost" icon="i-lucide-chevron-left" aria-label="The month before" @click="go(-1)" />
      <h2 class="w-40 text-center text-[15px] font-semibold" aria-live="polite">{{ monthName }}</h2>
      <UButton
        size="sm"
        variant="ghost"
        icon="i-lucide-chevron-right"
        aria-label="The month after"
        :disabled="endOfMonth(first).compare(today) >= 0"
        @click="go(1)"
      />
    </div>
    <ErrorNote v-if="error && !data" :error="error" />
    <template v-else>
      <div class="soft s12 grid grid-cols-7 border-b border-[var(--line-strong)] pb-1" aria-hidden="true">
        <span v-for="day in DAYS" :key="day" class="px-2">{{ day }}</span>
      </div>
      <div class="grid grid-cols-7">
        <button
          v-for="day in cells"
          :key="day.toString()"
          type="button"
          class="flex h-[92px] flex-col items-stretch border-b border-l border-[var(--line)] px-2 py-1.5 text-left text-[13px] nth-[7n+1]:border-l-0 enabled:hover:bg-[var(--wash)]"
          :class="{ 'bg-[var(--sheet)]': day.compare(today) === 0 }"
          :disabled="lines(day).length === 0"
          :aria-label="wordsOf(day)"
          :data-day="day.toString()"
          @click="show(day)"
        >
          <span
            class="num text-start"
            :class="[isOther(day) ? 'soft' : 'font-medium', { 'underline underline-offset-4': day.compare(today) === 0 }]"
            >{{ day.day }}</span
          >
          <span v-for="line in lines(day)" :key="line.state" class="flex items-center gap-1.5 leading-[18px]" :title="line.word">
            <UIcon :name="line.icon" class="size-3.5 shrink-0" :style="{ color: line.color }" /><span class="num">{{
              countInWords(line.count)
            }}</span>
            <span class="soft cut s12">{{ line.word }}</span>
          </span>
        </button>
      </div>
    </template>
  </section>
</template>
