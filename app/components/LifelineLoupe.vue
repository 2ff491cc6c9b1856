<script setup lang="ts">
import { axisTicks, firstAtOrAfter, toX, type Scale } from '~~/core/chain/layout'

// The half minute around the scrubber, because a second is less than a pixel at most zooms.
const { instant, marks } = defineProps<{ instant: number; marks: number[]; covered: boolean }>()
const WIDTH = 540
const HEIGHT = 58
const scale = computed<Scale>(() => ({ from: instant - 15_000, to: instant + 15_000, left: 0, right: WIDTH }))
const ticks = computed(() => axisTicks(scale.value, 1000, 0).map((at) => ({ x: toX(scale.value, at), large: at % 5000 === 0, at })))
const inside = computed(() => marks.slice(firstAtOrAfter(marks, scale.value.from), firstAtOrAfter(marks, scale.value.to)))
</script>

<template>
  <svg
    :viewBox="`0 0 ${WIDTH} ${HEIGHT + 20}`"
    class="block w-full overflow-visible"
    role="img"
    aria-label="The half minute around the scrubber"
  >
    <path
      :d="`M0 ${HEIGHT}V8C0 2 ${WIDTH / 2} 8 ${WIDTH / 2} -6C${WIDTH / 2} 8 ${WIDTH} 2 ${WIDTH} 8V${HEIGHT}Z`"
      fill="var(--ground)"
      stroke="var(--line-strong)"
    />
    <rect v-if="covered" x="0" :width="WIDTH" y="33.5" height="5" fill="var(--band)" />
    <line v-else x1="0" :x2="WIDTH" y1="36" y2="36" stroke="var(--line-strong)" stroke-width="1.5" stroke-dasharray="1.5 4" />
    <LifelineMark v-for="at in inside" :key="at" :x="toX(scale, at)" :y="36" kind="full" />
    <line :x1="WIDTH / 2" :x2="WIDTH / 2" y1="-14" :y2="HEIGHT" stroke="var(--ink)" stroke-width="1.6" />
    <text v-if="inside.length === 0 && !covered" x="12" y="28" font-size="11.5" fill="var(--soft)">no mark within half a minute</text>
    <g v-for="tick in ticks" :key="tick.at">
      <line :x1="tick.x" :x2="tick.x" :y1="HEIGHT" :y2="HEIGHT + (tick.large ? 6 : 3)" stroke="var(--line-strong)" />
      <text
        v-if="tick.large && tick.x > 28 && tick.x < WIDTH - 28"
        :x="tick.x"
        :y="HEIGHT + 18"
        text-anchor="middle"
        font-size="11"
        fill="var(--soft)"
      >
        {{ secondsOf(new Date(tick.at)) }}
      </text>
    </g>
  </svg>
</template>
