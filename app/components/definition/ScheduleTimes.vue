<script setup lang="ts">
import { SCHEDULE, type Days, type Times } from '~~/core/plan/schedule'
import { WEEKDAYS } from '~~/core/plan/words'
import { ordinalInWords } from '~~/core/time/words'

// When a line is due: counted, at times on days, or by a cron expression.
const times = defineModel<Times>({ required: true })
const KINDS = [
  { label: 'every', value: 'every' },
  { label: 'at times on days', value: 'days' },
  { label: 'by cron', value: 'cron' },
]
const UNITS = [
  { label: 'minutes', value: 'minutes' },
  { label: 'hours', value: 'hours' },
]
const ON = [
  { label: 'every day', value: 'every day' },
  { label: 'days of the week', value: 'week' },
  { label: 'a day of the month', value: 'month' },
  { label: 'a weekday of the month', value: 'weekday of month' },
]
const WHICH = [
  ...[1, 2, 3, 4].map((value) => ({ label: `the ${ordinalInWords(value)}`, value })),
  { label: 'the last', value: 'last' as const },
]
const weekdays = WEEKDAYS.map((label, i) => ({ label, value: i + 1 }))
/** What each kind begins with. */
const blank: Record<Times['kind'], Times> = {
  every: { kind: 'every', count: 6, unit: 'hours' },
  days: { kind: 'days', at: ['02:00'], on: { of: 'every day' } },
  cron: { kind: 'cron', expression: '0 2 * * 1-5' },
}
const blankDays: Record<Days['of'], Days> = {
  'every day': { of: 'every day' },
  week: { of: 'week', days: [1, 2, 3, 4, 5] },
  month: { of: 'month', day: 1 },
  'weekday of month': { of: 'weekday of month', which: 'last', weekday: 5 },
}
const kind = computed({ get: () => times.value.kind, set: (kind) => (times.value = structuredClone(blank[kind])) })
const on = computed({
  get: () => (times.value.kind === 'days' ? times.value.on.of : 'every day'),
  set: (of) => times.value.kind === 'days' && (times.value.on = structuredClone(blankDays[of])),
})
const at = computed({
  get: () => (times.value.kind === 'days' ? times.value.at.join(', ') : ''),
  set: (text) => times.value.kind === 'days' && (times.value.at = text.split(/[\s,;]+/).filter(Boolean)),
})
</script>

<template>
  <div class="flex flex-wrap items-center gap-2.5">
    <USelect v-model="kind" :items="KINDS" value-key="value" class="w-40" aria-label="How it is said when" />
    <template v-if="times.kind === 'every'">
      <UInput
        v-model.number="times.count"
        type="number"
        min="1"
        :max="SCHEDULE[times.unit].max"
        class="w-20"
        aria-label="Every so many"
      /><USelect v-model="times.unit" :items="UNITS" value-key="value" class="w-28" aria-label="Unit" /><span class="soft"
        >from its first start on, whatever the clock does</span
      >
    </template>
    <template v-else-if="times.kind === 'days'">
      <UInput v-model.lazy="at" class="w-32" aria-label="Times of the day" placeholder="02:00, 14:00" />
      <USelect v-model="on" :items="ON" value-key="value" class="w-44" aria-label="On which days" />
      <WeekdayChoice v-if="times.on.of === 'week'" v-model="times.on.days" />
      <template v-else-if="times.on.of === 'month'"
        ><UInput v-model.number="times.on.day" type="number" min="1" max="31" class="w-20" aria-label="Day of the month" /><span
          v-if="times.on.day > 28"
          class="soft"
          >or the last, where a month has none</span
        ></template
      >
      <template v-else-if="times.on.of === 'weekday of month'"
        ><USelect v-model="times.on.which" :items="WHICH" value-key="value" class="w-28" aria-label="Which" /><USelect
          v-model="times.on.weekday"
          :items="weekdays"
          value-key="value"
          class="w-36"
          aria-label="Day of the week"
      /></template>
    </template>
    <UInput
      v-else
      v-model.lazy="times.expression"
      class="mono w-56"
      aria-label="Cron expression"
      placeholder="minute hour day month weekday"
    />
  </div>
</template>
