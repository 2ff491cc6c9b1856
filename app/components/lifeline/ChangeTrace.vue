<script setup lang="ts">
import type { TimeWindow } from '~/composables/useTimeWindow'
import type { TraceView } from '~~/server/views'

// Rows that came, changed and went over time, above the lanes: what came goes up, what went goes down.
const { trace, time, y } = defineProps<{ trace: TraceView; time: TimeWindow; y: number }>()
defineEmits<{ enter: [at: number] }>()
const UP = 26
const DOWN = 22

interface Bar {
  at: number
  x: number
  width: number
  inserted: number
  updated: number
  deleted: number
  title: string
}
const bars = computed((): Bar[] => {
  const { scale } = time
  const found = new Map<number, { inserted: number; updated: number; deleted: number; tables: string[] }>()
  for (const [bucket, table, inserted, updated, deleted, emptied] of trace.buckets) {
    const sum = found.get(bucket) ?? { inserted: 0, updated: 0, deleted: 0, tables: [] }
    sum.inserted += inserted
    sum.updated += updated
    sum.deleted += deleted
    sum.tables.push(`${table}: ${talliedInWords([inserted, updated, deleted, emptied])}`)
    found.set(bucket, sum)
  }
  const pixels = ((scale.value.right - scale.value.left) / (scale.value.to - scale.value.from)) * trace.step
  return [...found].flatMap(([bucket, sum]) => {
    const at = trace.from + bucket * trace.step
    const x = time.x(at)
    if (x + pixels < scale.value.left || x > scale.value.right) return []
    const title = `${fullOf(new Date(at))}\n${sum.tables.slice(0, 6).join('\n')}`
    return [{ at, x: Math.max(x, scale.value.left), width: Math.max(1.5, Math.min(pixels - 0.5, scale.value.right - x)), ...sum, title }]
  })
})
const most = computed(() => Math.max(16, ...bars.value.map(({ inserted, updated, deleted }) => Math.max(inserted + updated, deleted))))
const height = (rows: number, room: number) => (rows === 0 ? 0 : Math.max(1, Math.sqrt(rows / most.value) * room))
const flags = computed(() => {
  let last = -Infinity
  return trace.structure.flatMap((change) => {
    const x = time.x(Date.parse(change.at))
    if (x < time.scale.value.left || x > time.scale.value.right) return []
    const name = change.objects[0]?.name ?? ''
    const labelled = x > last + 130 && x < time.right.value - 120
    if (labelled) last = x
    return [
      { ...change, x, lost: change.tag.startsWith('DROP'), label: labelled ? `${change.tag.toLowerCase()} ${name.split('.').at(-1)}` : '' },
    ]
  })
})
</script>

<template>
  <g>
    <line :x1="time.scale.value.left" :x2="time.right.value" :y1="y" :y2="y" stroke="var(--line-strong)" />
    <g v-for="bar in bars" :key="bar.at" class="cursor-pointer" :data-deleted="bar.deleted" @click.stop="$emit('enter', bar.at)">
      <title>{{ bar.title }}</title>
      <rect :x="bar.x" :y="y - UP" :width="bar.width" :height="UP + DOWN" fill="transparent" />
      <rect
        :x="bar.x"
        :y="y - height(bar.inserted + bar.updated, UP)"
        :width="bar.width"
        :height="height(bar.inserted + bar.updated, UP)"
        fill="var(--glaze)"
      />
      <rect
        v-if="bar.updated"
        :x="bar.x"
        :y="y - height(bar.updated, UP)"
        :width="bar.width"
        :height="height(bar.updated, UP)"
        fill="var(--soft)"
      />
      <rect v-if="bar.deleted" :x="bar.x" :y="y" :width="bar.width" :height="height(bar.deleted, DOWN)" fill="var(--error)" />
    </g>
    <g v-for="flag in flags" :key="`${flag.position}${flag.tag}`" class="cursor-pointer" @click.stop="$emit('enter', Date.parse(flag.at))">
      <title>{{ fullOf(flag.at) }}: {{ flag.statement ?? flag.tag }}</title>
      <path
        :d="`M${flag.x} ${y}V${y - UP - 6}h9l-3 4 3 4h-8`"
        :fill="flag.lost ? 'var(--error)' : 'var(--ground)'"
        :stroke="flag.lost ? 'var(--error)' : 'var(--ink)'"
        stroke-width="1.2"
      />
      <text
        v-if="flag.label"
        :x="flag.x + 13"
        :y="y - UP + 2"
        font-size="11"
        :fill="flag.lost ? 'var(--error)' : 'var(--soft)'"
        stroke="var(--ground)"
        stroke-width="3"
        paint-order="stroke"
        >{{ flag.label }}</text
      >
    </g>
  </g>
</template>
