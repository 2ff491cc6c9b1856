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
const LEAST = 6
const from = computed(() => now - days * 86_400_000)
const x = (at: number) => 6 + ((at - from.value) / (now - from.value)) * (width - 14)
const lanes = computed(() =>
  recent.map((lane, i) => ({
    member: lane.member,
    y: HEIGHT / 2 + (i - (recent.length - 1) / 2) * 10,
    marks: apart(lane.marks.map((mark) => ({ x: x(Date.parse(mark.at)), kind: mark.kind }))),
  })),
)
/** Marks in view that do not cover each other; of those that would, the newest. */
function apart<T extends { x: number }>(marks: T[]): T[] {
  const kept: T[] = []
  for (const mark of [...marks].sort((a, b) => b.x - a.x)) {
    const next = kept[0]
    if (mark.x > x(from.value) && (!next || next.x - mark.x >= LEAST)) kept.unshift(mark)
  }
  return kept
}
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
