<script setup lang="ts">
import type { LastOfLine } from '~~/core/plan/cycle'
import type { WayOfBackup } from '~~/server/views'
import { BACKUP_WORD, makesInWords, withKind } from '~~/core/plan/words'
import { NEW_CYCLE, NEW_WINDOW, SCHEDULE, type BackupKind, type PlanLine, type Schedule } from '~~/core/plan/schedule'

// One line of a plan: what it makes, when, and within which window; with what comes of it.
const { schedule, ways } = defineProps<{ schedule: Schedule; last: LastOfLine | null; ways: WayOfBackup[] | null }>()
defineEmits<{ remove: [] }>()
const line = defineModel<PlanLine>({ required: true })

const KINDS: BackupKind[] = ['full', 'differential', 'incremental', 'synthetic']
const MAKES = [
  ...KINDS.map((what) => ({ label: makesInWords({ kind: 'each', what }), value: what })),
  { label: 'a cycle', value: 'cycle' as const },
]
const FIRST = (['full', 'synthetic'] as const).map((value) => ({ label: withKind(value), value }))
const REST = (['differential', 'incremental'] as const).map((value) => ({ label: `${BACKUP_WORD[value]}s`, value }))
const makes = computed({
  get: () => (line.value.makes.kind === 'cycle' ? 'cycle' : line.value.makes.what),
  set: (what) => (line.value.makes = what === 'cycle' ? { ...NEW_CYCLE } : { kind: 'each', what }),
})
const hasWindow = computed({
  get: () => line.value.window !== undefined,
  set: (has) => {
    if (has) line.value.window = { ...NEW_WINDOW }
    else delete line.value.window
  },
})
const CLOSE = [
  ['finish', 'is finished'],
  ['stop', 'is stopped'],
] as const
/** What keeps a kind that the line makes from being made as the vessel was saved; it would be a full instead. */
const obstacles = computed(() => {
  const { makes } = line.value
  const kinds: string[] = makes.kind === 'cycle' ? [makes.first, makes.rest] : [makes.what]
  return (ways ?? []).flatMap(({ way, obstacle }) =>
    kinds.includes(way) && way !== 'full' && obstacle !== null ? [`As saved, a full instead of ${withKind(way)}: ${obstacle}`] : [],
  )
})
const LABEL = { label: 'text-[13px] font-normal' }
</script>

<template>
  <div class="grid gap-2 border-t border-[var(--line)] py-3" :data-schedule-line="line.name">
    <div class="grid grid-cols-[160px_minmax(0,1fr)_auto] gap-x-3">
      <UInput v-model="line.name" class="self-start" aria-label="Name of the line" />
      <div class="grid min-w-0 gap-2">
        <div class="flex flex-wrap items-center gap-2">
          <USelect
            v-model="makes"
            :items="MAKES"
            value-key="value"
            :class="line.makes.kind === 'cycle' ? 'w-28' : 'w-56'"
            aria-label="What the line makes"
          />
          <template v-if="line.makes.kind === 'cycle'">
            <span class="soft">of</span>
            <UInput
              v-model.number="line.makes.points"
              type="number"
              :min="SCHEDULE.points.min"
              :max="SCHEDULE.points.max"
              class="w-16"
              aria-label="Points of a cycle"
            /><span class="soft">:</span>
            <USelect
              v-model="line.makes.first"
              :items="FIRST"
              value-key="value"
              class="w-[124px]"
              aria-label="First point of a cycle"
            /><span class="soft">then</span>
            <USelect v-model="line.makes.rest" :items="REST" value-key="value" class="w-[130px]" aria-label="Other points of a cycle" />
          </template>
        </div>
        <ScheduleTimes v-model="line.times" />
        <div class="flex flex-wrap items-center gap-x-2 gap-y-1">
          <UCheckbox v-model="hasWindow" label="begins within" :ui="LABEL" />
          <template v-if="line.window">
            <UInput
              v-model.number="line.window.minutes"
              type="number"
              :min="SCHEDULE.window.min"
              :max="SCHEDULE.window.max"
              class="w-20"
              aria-label="Minutes of the window"
            /><span class="soft">minutes; what runs at its end</span>
            <ChoiceBar v-model="line.window.close" :choices="CLOSE" label="What runs when the window closes" />
            <UCheckbox v-model="line.window.spread" label="spread, so that vessels don’t begin together" :ui="LABEL" class="basis-full" />
          </template>
          <span v-else class="soft">a window; without one, at its time, however late that is</span>
        </div>
      </div>
      <UButton
        size="sm"
        variant="ghost"
        icon="i-lucide-x"
        class="self-start"
        :aria-label="`Remove the line ${line.name}`"
        @click="$emit('remove')"
      />
    </div>
    <p v-for="obstacle in obstacles" :key="obstacle" class="soft" data-obstacle>{{ obstacle }}</p>
    <ScheduleStrip :schedule="schedule" :line="line" :last="last" />
  </div>
</template>
