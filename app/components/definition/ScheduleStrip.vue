<script setup lang="ts">
import { comingPlaces, type LastOfLine, type Place } from '~~/core/plan/cycle'
import { scheduleTroubles, type PlanLine, type Schedule } from '~~/core/plan/schedule'
import { BACKUP_WORD, makesInWords, timesInWords } from '~~/core/plan/words'

// What a line will make, with real times: two cycles of it, or the next few.
const { schedule, line, last } = defineProps<{ schedule: Schedule; line: PlanLine; last: LastOfLine | null }>()
const now = useTicking()
const box = ref<HTMLElement>()
const { width } = useElementSize(box)
const FEW = 8
const MOST = 60
const LABEL_WIDTH = 64
const usable = computed(() => scheduleTroubles({ ...schedule, lines: [line] }).length === 0)
const marks = computed(() => {
  if (!usable.value) return []
  const most = line.makes.kind === 'cycle' ? Math.min(MOST, line.makes.points * 2) : FEW
  const found: (Place & { at: number })[] = []
  for (const coming of comingPlaces(schedule, line, last, now.value)) if (found.push(coming) === most) break
  const step = Math.max(14, (width.value - LABEL_WIDTH) / Math.max(1, found.length - 1))
  let free = -Infinity
  return found.map((coming, i) => {
    const x = LABEL_WIDTH / 2 + i * step
    const isFirst = coming.what === 'full' || coming.what === 'synthetic'
    // A full is always named with its date; the others where there is room.
    const nextFirst = found.findIndex((other, j) => j > i && other.place === 1)
    const room = nextFirst < 0 || (nextFirst - i) * step >= LABEL_WIDTH
    const isNamed = x - free >= LABEL_WIDTH && (coming.place === 1 || room)
    if (isNamed) free = x
    return { ...coming, x, isFirst, isNamed }
  })
})
const ending = computed(() => (marks.value.at(-1)?.x ?? 0) + LABEL_WIDTH / 2)
const title = (mark: (typeof marks.value)[number]) =>
  `${mark.of > 1 ? `${mark.place} of ${mark.of}, ` : ''}${BACKUP_WORD[mark.what]}: ${timeOfPlan(new Date(mark.at), schedule.zone)}`
</script>

<template>
  <div ref="box" class="min-w-0 overflow-x-auto" data-schedule-strip>
    <svg
      v-if="marks.length > 0"
      :width="Math.max(width, ending)"
      height="52"
      role="img"
      :aria-label="`${makesInWords(line.makes)}, ${timesInWords(line.times)}. ${marks.slice(0, 14).map(title).join('; ')}`"
    >
      <line :x1="marks[0]!.x" :x2="marks.at(-1)!.x" y1="12" y2="12" stroke="var(--line-strong)" stroke-dasharray="2 3" />
      <g v-for="mark in marks" :key="mark.at" :data-coming="mark.what">
        <title>{{ title(mark) }}</title>
        <LifelineMark :x="mark.x" :y="12" :kind="mark.what" :s="0.85" />
        <template v-if="mark.isNamed">
          <text
            :x="mark.x"
            y="35"
            text-anchor="middle"
            font-size="11.5"
            :font-weight="mark.isFirst ? 600 : 400"
            :fill="mark.isFirst ? 'var(--ink)' : 'var(--soft)'"
          >
            {{ dayIn(schedule.zone, mark.at) }}
          </text>
          <text :x="mark.x" y="48" text-anchor="middle" font-size="11" fill="var(--soft)">{{ clockIn(schedule.zone, mark.at) }}</text>
        </template>
      </g>
    </svg>
    <p v-else-if="usable" class="soft">It never comes again.</p>
  </div>
</template>
