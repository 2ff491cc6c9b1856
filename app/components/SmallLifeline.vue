<script setup lang="ts">
import type { Standing } from '~~/server/views'

// The last days of a vessel, one line a member, without labels.
const {
  recent,
  now,
  width = 196,
  days = 7,
} = defineProps<{ recent: Standing['recent']; now: number; width?: number; days?: number; at?: number }>()
const HEIGHT = 34
const from = computed(() => now - days * 86_400_000)
const x = (at: number) => 6 + ((at - from.value) / (now - from.value)) * (width - 14)
const lanes = computed(() =>
  recent.map((lane, i) => ({
    member: lane.member,
    y: HEIGHT / 2 + (i - (recent.length - 1) / 2) * 10,
    marks: lane.marks.filter((mark) => Date.parse(mark.at) > from.value).map((mark) => ({ x: x(Date.parse(mark.at)), kind: mark.kind })),
  })),
)
</script>

<template>
  <svg :width="width" :height="HEIGHT" role="img" :aria-label="`Backups of the last ${days} days`">
    <g v-for="lane in lanes" :key="lane.member">
      <line x1="0" :x2="width" :y1="lane.y" :y2="lane.y" stroke="var(--line-strong)" stroke-width="1.5" stroke-dasharray="1.5 4" />
      <LifelineMark v-for="(mark, i) in lane.marks" :key="i" :x="mark.x" :y="lane.y" :kind="mark.kind" :s="0.44" />
    </g>
    <path
      v-if="at !== undefined && at >= from"
      :d="`M${x(at)} 4V${HEIGHT}M${x(at) - 4} 0h8l-4 5z`"
      stroke="var(--ink)"
      stroke-width="1.6"
      fill="var(--ink)"
    />
    <text v-if="lanes.length === 0" x="0" :y="HEIGHT / 2 + 4" font-size="12" fill="var(--soft)">no point yet</text>
  </svg>
</template>
