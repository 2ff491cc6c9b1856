<script setup lang="ts">
import type { ArtifactKind } from '~~/core/chain/chain'

// One mark of a lifeline, at (x, y). Drawn in an SVG.
const R = { full: 7, differential: 6.5, incremental: 6, synthetic: 7.5, log: 5 }
const {
  kind,
  s = 1,
  ground = 'var(--ground)',
} = defineProps<{
  x: number
  y: number
  kind: ArtifactKind
  s?: number
  ground?: string
  hollow?: boolean
}>()
const r = computed(() => R[kind] * s)
const stroke = computed(() => 1.5 * Math.max(0.8, s))
const inner = computed(() => r.value - stroke.value / 2)
</script>

<template>
  <g :transform="`translate(${x} ${y})`">
    <circle :r="r + 2.5 * s" :fill="ground" />
    <circle v-if="hollow" :r="3.8" :fill="ground" stroke="var(--soft)" stroke-width="1.1" />
    <circle v-else-if="kind === 'full'" :r="r" fill="var(--ink)" />
    <rect v-else-if="kind === 'log'" x="-9" y="-2.5" width="18" height="5" rx="1.5" fill="var(--band)" />
    <template v-else>
      <circle :r="inner" :fill="ground" stroke="var(--ink)" :stroke-width="stroke" />
      <path v-if="kind === 'differential'" :d="`M${-inner} 0A${inner} ${inner} 0 0 0 ${inner} 0Z`" fill="var(--ink)" />
      <path v-if="kind === 'incremental'" :d="`M0 0V${inner}A${inner} ${inner} 0 0 0 ${inner} 0Z`" fill="var(--ink)" />
      <circle v-if="kind === 'synthetic'" :r="r * 0.52" fill="var(--ink)" />
    </template>
  </g>
</template>
