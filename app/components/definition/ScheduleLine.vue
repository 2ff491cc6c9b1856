<script setup lang="ts">
import type { LastOfLine } from '~~/core/plan/cycle'
import { SCHEDULE, type BackupKind, type Makes, type PlanLine, type Schedule } from '~~/core/plan/schedule'

// One line of a plan: what it makes, when, and within which window; with what comes of it.
const { schedule } = defineProps<{ schedule: Schedule; last: LastOfLine | null }>()
defineEmits<{ remove: [] }>()
const line = defineModel<PlanLine>({ required: true })

const MAKES = [
  { label: 'a full each time', value: 'full' },
  { label: 'a differential each time', value: 'differential' },
  { label: 'an incremental each time', value: 'incremental' },
  { label: 'a synthetic full each time', value: 'synthetic' },
  { label: 'a cycle of points', value: 'cycle' },
]
const FIRST = [
  { label: 'a full', value: 'full' },
  { label: 'a synthetic full', value: 'synthetic' },
]
const REST = [
  { label: 'differentials', value: 'differential' },
  { label: 'incrementals', value: 'incremental' },
]
const CYCLE: Makes = { kind: 'cycle', points: 7, first: 'full', rest: 'differential' }
const makes = computed({
  get: () => (line.value.makes.kind === 'cycle' ? 'cycle' : line.value.makes.what),
  set: (what) => (line.value.makes = what === 'cycle' ? { ...CYCLE } : { kind: 'each', what: what as BackupKind }),
})
const hasWindow = computed({
  get: () => line.value.window !== undefined,
  set: (has) => {
    if (has) line.value.window = { minutes: 120, spread: true, close: 'finish' }
    else delete line.value.window
  },
})
const CLOSE = [
  ['finish', 'it is finished'],
  ['stop', 'it is stopped'],
] as const
const nameId = useId()
</script>

<template>
  <div class="grid gap-2 border-t border-[var(--line)] py-3" :data-schedule-line="line.name">
    <div class="flex flex-wrap items-center gap-2.5">
      <UInput :id="nameId" v-model="line.name" class="w-[148px]" aria-label="Name of the line" />
      <span class="soft">makes</span>
      <USelect v-model="makes" :items="MAKES" value-key="value" class="w-52" aria-label="What the line makes" />
      <template v-if="line.makes.kind === 'cycle'">
        <span class="soft">of</span>
        <UInput
          v-model.number="line.makes.points"
          type="number"
          :min="SCHEDULE.points.min"
          :max="SCHEDULE.points.max"
          class="w-20"
          aria-label="Points of a cycle"
        /><span class="soft">points:</span>
        <USelect v-model="line.makes.first" :items="FIRST" value-key="value" class="w-36" aria-label="First point of a cycle" /><span
          class="soft"
          >then</span
        >
        <USelect v-model="line.makes.rest" :items="REST" value-key="value" class="w-36" aria-label="Other points of a cycle" />
      </template>
      <UButton
        size="sm"
        variant="ghost"
        icon="i-lucide-x"
        class="ml-auto"
        :aria-label="`Remove the line ${line.name}`"
        @click="$emit('remove')"
      />
    </div>
    <ScheduleTimes v-model="line.times" />
    <div class="flex flex-wrap items-center gap-2.5">
      <UCheckbox v-model="hasWindow" label="begins within a window of" :ui="{ label: 'text-[13px] font-normal' }" />
      <template v-if="line.window">
        <UInput
          v-model.number="line.window.minutes"
          type="number"
          :min="SCHEDULE.window.min"
          :max="SCHEDULE.window.max"
          class="w-20"
          aria-label="Minutes of the window"
        /><span class="soft">minutes; what goes on then:</span>
        <ChoiceBar v-model="line.window.close" :choices="CLOSE" label="What goes on when the window closes" />
        <UCheckbox
          v-model="line.window.spread"
          label="spread, so that vessels don’t begin together"
          :ui="{ label: 'text-[13px] font-normal' }"
        />
      </template>
      <span v-else class="soft">at its time, however late that is</span>
    </div>
    <ScheduleStrip :schedule="schedule" :line="line" :last="last" />
  </div>
</template>
