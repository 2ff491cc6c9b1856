<script setup lang="ts">
import { axisTicks, firstAtOrAfter, toX, type Scale } from '~~/core/chain/layout'

// The half minute around the scrubber, because a second is less than a pixel at most zooms.
const { moment, marks, bands } = defineProps<{
  moment: number
  marks: number[]
  /** Stretches in which every moment can be entered. */
  bands: { from: number; to: number }[]
}>()
const root = useTemplateRef<SVGElement>('root')
const { width } = useElementSize(root)
/** As wide as there is room for, so that what is written keeps its size. */
const right = computed(() => width.value || 500)
const HEIGHT = 58
const scale = computed<Scale>(() => ({ from: moment - 15_000, to: moment + 15_000, left: 0, right: right.value }))
const ticks = computed(() => axisTicks(scale.value, 1000, 0).map((at) => ({ x: toX(scale.value, at), large: at % 5000 === 0, at })))
const inside = computed(() => marks.slice(firstAtOrAfter(marks, scale.value.from), firstAtOrAfter(marks, scale.value.to)))
const covered = computed(() => {
  const { from, to } = scale.value
  return bands
    .filter((band) => band.to > band.from && band.to > from && band.from < to)
    .map((band) => {
      const x = toX(scale.value, Math.max(band.from, from))
      return { x, width: toX(scale.value, Math.min(band.to, to)) - x }
    })
})
</script>

<template>
  <svg
    ref="root"
    :viewBox="`0 0 ${right} ${HEIGHT + 20}`"
    class="block w-full overflow-visible"
    role="img"
    aria-label="The half minute around the scrubber"
  >
    <path
      :d="`M0 ${HEIGHT}V8C0 2 ${right / 2} 8 ${right / 2} -6C${right / 2} 8 ${right} 2 ${right} 8V${HEIGHT}Z`"
      fill="var(--ground)"
      stroke="var(--line-strong)"
    />
    <line x1="0" :x2="right" y1="36" y2="36" stroke="var(--line-strong)" stroke-width="1.5" stroke-dasharray="1.5 4" />
    <g v-for="band in covered" :key="band.x" data-band>
      <rect v-for="fill in ['var(--ground)', 'var(--band)']" :key="fill" :x="band.x" :width="band.width" y="33.5" height="5" :fill="fill" />
    </g>
    <LifelineMark v-for="at in inside" :key="at" :x="toX(scale, at)" :y="36" kind="full" />
    <line :x1="right / 2" :x2="right / 2" y1="-14" :y2="HEIGHT" stroke="var(--ink)" stroke-width="1.6" />
    <text v-if="inside.length === 0 && covered.length === 0" x="12" y="28" font-size="11.5" fill="var(--soft)">
      no mark within half a minute
    </text>
    <g v-for="tick in ticks" :key="tick.at">
      <line :x1="tick.x" :x2="tick.x" :y1="HEIGHT" :y2="HEIGHT + (tick.large ? 6 : 3)" stroke="var(--line-strong)" />
      <text
        v-if="tick.large && tick.x > 28 && tick.x < right - 28"
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
