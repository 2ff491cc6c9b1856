<script setup lang="ts">
import { axisStep, axisTicks, mergeMarks, toX } from '~~/core/chain/layout'
import type { TimeRange, TimeWindow } from '~/composables/useTimeWindow'

// The thin strip of the whole life, which shows where the window lies in it.
const { time, range, points, seams } = defineProps<{
  time: TimeWindow
  range: TimeRange
  points: number[]
  seams: [number, number][]
  now: number
  y: number
  top: number
  bottom: number
}>()
const life = computed(() => time.life.value)
const right = computed(() => time.right.value)
const oldest = computed(() => time.oldest.value)
const LEFT = LIFELINE_LEFT
const clampX = time.clampX
const lifeMarks = computed(() => mergeMarks(points, life.value, 3))
const lifeTicks = computed(() => {
  const step = axisStep(life.value, 150)
  return axisTicks(life.value, step, offsetAt(life.value.to))
    .map((at) => ({ x: toX(life.value, at), label: axisLabel(at, step) }))
    .filter((tick) => tick.x > LEFT + 84 && tick.x < right.value - 20)
})
</script>

<template>
  <g class="cursor-pointer" @pointerdown="time.begin('life', $event)" @pointermove="time.move" @pointerup="time.end">
    <rect :x="LEFT" :y="4" :width="right - LEFT" height="40" fill="transparent" />
    <line :x1="LEFT" :x2="toX(life, now)" :y1="y" :y2="y" stroke="var(--line-strong)" stroke-width="1.5" stroke-dasharray="1.5 4" />
    <line
      v-for="mark in lifeMarks"
      :key="mark.first"
      :x1="mark.x"
      :x2="mark.x"
      :y1="y - 6"
      :y2="y + 1"
      stroke="var(--ink)"
      stroke-width="1.2"
    />
    <line
      v-for="([a, b], i) in seams"
      :key="i"
      :x1="toX(life, a) - 3"
      :x2="toX(life, b) + 3"
      :y1="y + 6"
      :y2="y + 6"
      stroke="var(--gold-line)"
      stroke-width="2"
    />
    <text :x="LEFT" :y="y - 12" font-size="11" fill="var(--soft)"> {{ dateOf(new Date(oldest)) }} {{ clockOf(new Date(oldest)) }} </text>
    <text v-for="tick in lifeTicks" :key="tick.x" :x="tick.x" :y="y - 12" font-size="11" fill="var(--soft)" text-anchor="middle">
      {{ tick.label }}
    </text>
    <path
      :d="`M${clampX(toX(life, range.from))} ${y - 9}V${y + 11}H${clampX(toX(life, range.to))}V${y - 9}`"
      stroke="var(--ink)"
      stroke-width="1.4"
      fill="none"
    />
    <path
      :d="`M${clampX(toX(life, range.from))} ${y + 11}C${clampX(toX(life, range.from))} ${y + 34} ${LEFT} ${y + 14} ${LEFT} ${top}V${bottom}`"
      stroke="var(--line-strong)"
      fill="none"
    />
  </g>
</template>
