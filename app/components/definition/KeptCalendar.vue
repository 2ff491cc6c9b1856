<script setup lang="ts">
import { pointsAt } from '~~/core/plan/simulate'

// Which points there would be on any day of the coming year.
const { result } = useSimulation()
const ahead = ref(90)
const DAY = 86_400_000
const moment = computed(() => (result.value?.now.days[0]?.at ?? 0) + (ahead.value - 1) * DAY)
const points = computed(() => (result.value ? pointsAt(result.value.now, moment.value) : []))
const root = useTemplateRef<HTMLElement>('root')
const { width } = useElementSize(root)
/** Old points lie further apart than new ones: the scale is the root of their age. */
const marks = computed(() => {
  const oldest = Math.max(DAY, ...points.value.map(({ at }) => moment.value - at))
  const x = (at: number) => 8 + (1 - Math.sqrt((moment.value - at) / oldest)) * (width.value - 20)
  let last = -Infinity
  return points.value.flatMap(({ at, kind }) => {
    // Those that would lie upon each other are one.
    if (x(at) - last < 7) return []
    last = x(at)
    return [{ at, kind, x: last }]
  })
})
const words = computed(() => {
  const [oldest] = points.value
  return oldest ? `${plural(points.value.length, 'point')}, the oldest of ${dateOf(new Date(oldest.at))}` : 'no point'
})
</script>

<template>
  <div v-if="result" class="grid grid-cols-[160px_minmax(0,1fr)] items-start gap-x-3 py-2.5" data-calendar>
    <label for="kept-on">There would be, on {{ dateOf(new Date(moment)) }}</label>
    <div ref="root" class="min-w-0">
      <div class="flex items-center gap-4">
        <USlider id="kept-on" v-model="ahead" :min="1" :max="SIMULATED_DAYS" class="w-64" aria-label="Day of the coming year" />
        <span class="font-medium">{{ words }}</span>
      </div>
      <svg :width="width" height="40" class="mt-1 block overflow-visible" role="img" :aria-label="words">
        <line x1="8" :x2="Math.max(8, width - 12)" y1="14" y2="14" stroke="var(--line-strong)" stroke-dasharray="1.5 4" />
        <g v-for="mark in marks" :key="mark.at">
          <title>{{ mark.kind }}, {{ fullOf(new Date(mark.at)) }}</title>
          <LifelineMark :x="mark.x" :y="14" :kind="mark.kind" :s="0.62" />
        </g>
        <text v-if="points[0]" x="2" y="36" font-size="11.5" fill="var(--soft)">{{ dateOf(new Date(points[0].at)) }}</text>
        <text :x="width - 4" y="36" font-size="11.5" text-anchor="end" fill="var(--soft)">{{ dateOf(new Date(moment)) }}</text>
      </svg>
    </div>
  </div>
</template>
