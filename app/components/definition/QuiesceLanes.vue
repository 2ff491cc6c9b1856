<script setup lang="ts">
import { lanesOf, type Bar } from '~~/core/quiesce/lanes'
import { moved, turnsOf, type HoldStep, type QuiesceSequence } from '~~/core/quiesce/sequence'
import { namesOf, placeInWords } from '~~/core/things/thing'
import type { HoldLine } from '~~/server/views'

const { quiesce, members, lines } = defineProps<{ quiesce: QuiesceSequence; members: string[]; lines: HoldLine[] }>()
defineEmits<{ remove: [id: string] }>()
const steps = defineModel<HoldStep[]>('steps', { required: true })
const chosen = defineModel<string | null>('chosen', { required: true })

const LABEL = 140
const ROW = 42
const TOP = 26
const box = useTemplateRef<HTMLElement>('box')
const { width } = useElementSize(box)
const lanes = computed(() => lanesOf(quiesce, lines, members))
const rowsOf = (bars: Bar[]) => Math.max(1, bars.length)
const tops = computed(() => {
  let top = TOP
  return lanes.value.members.map(({ bars }) => {
    const laneTop = top
    top += rowsOf(bars) * ROW
    return laneTop
  })
})
const height = computed(() => TOP + lanes.value.members.reduce((sum, { bars }) => sum + rowsOf(bars) * ROW, 0))
// The budget is in view as long as it is not far beyond everything else.
const end = computed(() => {
  const { total } = lanes.value
  return quiesce.budgetMs <= total * 4 ? Math.max(total, quiesce.budgetMs) * 1.12 : total * 1.25
})
const x = (ms: number) => LABEL + (ms / end.value) * Math.max(1, width.value - LABEL - 8)
const ticks = computed(() => {
  const step = [0.1, 0.2, 0.5, 1, 2, 5, 10, 30, 60, 300, 600, 1800].find((seconds) => end.value / (seconds * 1000) <= 8) ?? 3600
  return Array.from({ length: Math.floor(end.value / (step * 1000)) + 1 }, (_, i) => Number((i * step).toFixed(1)))
})
const nameOf = placeInWords

// While a step is dragged, its turns are columns: on one it joins what is there, between two it goes by itself.
const dragged = ref<{ id: string; x: number; from: number } | null>(null)
const zones = computed(() => {
  const turns = turnsOf(quiesce.steps).length
  const span = Math.max(1, width.value - LABEL - 8)
  const unit = span / (turns * 3 + 1)
  return Array.from({ length: turns * 2 + 1 }, (_, i) => {
    const join = i % 2 === 1
    const left = LABEL + Math.floor(i / 2) * 3 * unit + (join ? unit : 0)
    return { turn: Math.floor(i / 2), between: !join, left, width: (join ? 2 : 1) * unit }
  })
})
const over = computed(() => {
  const at = dragged.value?.x
  return at === undefined
    ? undefined
    : (zones.value.find(({ left, width: wide }) => at >= left && at < left + wide) ?? zones.value.at(at < LABEL ? 0 : -1))
})
function press(event: PointerEvent, id: string) {
  chosen.value = id
  const left = box.value!.getBoundingClientRect().left
  const from = event.clientX
  const move = ({ clientX }: PointerEvent) => {
    if (dragged.value || Math.abs(clientX - from) > 5) dragged.value = { id, x: clientX - left, from }
  }
  const stop = (keep: boolean) => {
    removeEventListener('pointermove', move)
    removeEventListener('pointerup', drop)
    removeEventListener('keydown', escape)
    if (keep && dragged.value && over.value) steps.value = moved(steps.value, id, over.value.turn, over.value.between)
    dragged.value = null
  }
  const drop = () => stop(true)
  const escape = ({ key }: KeyboardEvent) => key === 'Escape' && stop(false)
  addEventListener('pointermove', move)
  addEventListener('pointerup', drop)
  addEventListener('keydown', escape)
}

/** By keys: out of a turn that is shared into one of its own, else into the next one. */
function shift(step: HoldStep, by: 1 | -1) {
  const alone = quiesce.steps.filter(({ turn }) => turn === step.turn).length === 1
  const last = Math.max(...quiesce.steps.map(({ turn }) => turn))
  if (alone && (by < 0 ? step.turn === 0 : step.turn === last)) return
  steps.value = alone ? moved(steps.value, step.id, step.turn + by) : moved(steps.value, step.id, step.turn + (by > 0 ? 1 : 0), true)
}
const describe = ({ step, begun, held, released }: Bar) =>
  `${step.name}, turn ${step.turn + 1}, held after ${durationInWords(held - begun)}, for ${durationInWords(released - held)}`
</script>

<template>
  <div ref="box" class="relative mt-2 border-b border-[var(--line)] text-[12px] select-none" :style="{ height: `${height + 24}px` }">
    <svg v-if="width > 0" class="absolute inset-0" :width="width" :height="height + 24" aria-hidden="true">
      <g v-for="tick in ticks" :key="tick">
        <line :x1="x(tick * 1000)" :x2="x(tick * 1000)" :y1="TOP" :y2="height" stroke="var(--line)" />
        <text :x="x(tick * 1000)" :y="height + 17" text-anchor="middle" font-size="12" fill="var(--soft)">
          {{ tick === 0 ? '0' : `${tick} s` }}
        </text>
      </g>
      <line v-for="top in tops" :key="top" x1="0" :x2="width" :y1="top" :y2="top" stroke="var(--line)" />
      <line x1="0" :x2="width" :y1="height" :y2="height" stroke="var(--line)" />
      <g v-if="lanes.all && !dragged">
        <rect
          :x="x(lanes.all.from)"
          :width="x(lanes.all.to) - x(lanes.all.from)"
          :y="TOP"
          :height="height - TOP"
          fill="var(--hold)"
          opacity="0.13"
        />
        <path :d="`M${x(lanes.all.from)},${height}V14M${x(lanes.all.to)},${height}V14`" stroke="var(--hold)" stroke-width="1.3" />
        <text :x="x(lanes.all.from) + 5" y="17" font-size="12" font-weight="600" fill="var(--hold)">
          all held {{ durationInWords(lanes.all.to - lanes.all.from) }}
        </text>
      </g>
      <g v-if="quiesce.budgetMs <= end">
        <line
          :x1="x(quiesce.budgetMs)"
          :x2="x(quiesce.budgetMs)"
          y1="14"
          :y2="height"
          stroke="var(--ink)"
          stroke-width="1.3"
          stroke-dasharray="3 3"
        />
        <text :x="x(quiesce.budgetMs) - 6" y="17" text-anchor="end" font-size="12" fill="var(--soft)">
          released by force after {{ durationInWords(quiesce.budgetMs) }}
        </text>
      </g>
      <text v-else :x="width" y="17" text-anchor="end" font-size="12" fill="var(--soft)">
        released by force after {{ durationInWords(quiesce.budgetMs) }}
      </text>
      <g v-if="dragged">
        <rect
          v-for="(zone, i) in zones"
          :key="i"
          :x="zone.left"
          :width="zone.width - 1"
          :y="TOP"
          :height="height - TOP"
          :fill="zone === over ? 'var(--hold)' : zone.between ? 'none' : 'var(--ink)'"
          :opacity="zone === over ? 0.28 : 0.05"
        />
        <text
          v-for="(zone, i) in zones.filter(({ between }) => !between)"
          :key="`t${i}`"
          :x="zone.left + 5"
          y="17"
          font-size="12"
          fill="var(--soft)"
        >
          turn {{ zone.turn + 1 }}
        </text>
      </g>
    </svg>
    <div
      v-for="(lane, i) in lanes.members"
      :key="lane.member"
      class="mono absolute flex items-center text-[12.5px] font-medium"
      :style="{ top: `${tops[i]}px`, height: `${rowsOf(lane.bars) * ROW}px`, width: `${LABEL - 12}px` }"
      :title="nameOf(lane.member)"
    >
      <span class="min-w-0"
        ><span class="cut block">{{ namesOf(lane.member).at(-1) }}</span
        ><span class="soft cut block text-[11px] font-normal">{{ namesOf(lane.member)[0] }}</span></span
      >
    </div>
    <template v-for="(lane, i) in lanes.members" :key="lane.member">
      <span
        v-if="lane.bars.length === 0"
        class="soft absolute flex items-center text-[12.5px]"
        :style="{ top: `${tops[i]}px`, height: `${ROW}px`, left: `${LABEL + 6}px` }"
        >nothing holds it</span
      >
      <button
        v-for="(bar, row) in lane.bars"
        :key="bar.step.id"
        type="button"
        class="group absolute cursor-grab text-left focus-visible:outline-offset-1"
        :class="{ 'opacity-50': dragged?.id === bar.step.id }"
        :style="{
          top: `${tops[i]! + row * ROW + 2}px`,
          left: `${x(bar.begun)}px`,
          width: `${Math.max(18, x(bar.released) - x(bar.begun))}px`,
          height: `${ROW - 4}px`,
        }"
        :aria-label="describe(bar)"
        :aria-pressed="chosen === bar.step.id"
        :data-step-bar="bar.step.name"
        :title="`${describe(bar)}. Drag it, or move it with the arrow keys.`"
        @pointerdown="press($event, bar.step.id)"
        @keydown.enter.prevent="chosen = bar.step.id"
        @keydown.space.prevent="chosen = bar.step.id"
        @keydown.right.prevent="shift(bar.step, 1)"
        @keydown.left.prevent="shift(bar.step, -1)"
        @keydown.delete.prevent="$emit('remove', bar.step.id)"
      >
        <span
          class="absolute -top-px left-0 rounded-[3px] px-1 whitespace-nowrap"
          :class="chosen === bar.step.id ? 'bg-[var(--ink)] text-[var(--ground)]' : 'bg-[var(--ground)]'"
          >{{ bar.step.name }}</span
        >
        <span
          class="absolute top-[17px] bottom-0 left-0 rounded-l-[2px] border border-[var(--ink)] bg-[var(--sheet)]"
          :style="{ width: `${Math.max(5, x(bar.held) - x(bar.begun))}px` }"
        />
        <span
          class="absolute top-[17px] right-0 bottom-0 rounded-r-[2px] border border-[var(--hold)] pl-1.5 leading-[18px] font-semibold text-[var(--ink)]"
          :class="bar.measured ? '' : 'border-dashed'"
          :style="{
            left: `${Math.max(5, x(bar.held) - x(bar.begun))}px`,
            background: 'color-mix(in srgb, var(--hold) 24%, var(--ground))',
          }"
          ><span v-if="x(bar.released) - x(bar.held) > 58" class="whitespace-nowrap">{{
            bar.measured ? durationInWords(bar.released - bar.held) : 'not measured'
          }}</span></span
        >
      </button>
    </template>
  </div>
</template>
