<script setup lang="ts">
import { axisStep, axisTicks, mergeMarks, toTime, toX, zoomed, type Scale } from '~~/core/chain/layout'
import type { Artifact } from '~~/core/chain/chain'

// The time instrument: whole life above, a lane for each member, the axis, and the scrubber.
interface Point { id: string; at: Date; name: string | null; pinned: boolean; verifiedAt: string | null; artifacts: string[] }

const { members, artifacts, points, now } = defineProps<{ members: string[]; artifacts: Artifact[]; points: Point[]; now: number }>()
const range = defineModel<{ from: number; to: number }>('window', { required: true })
const instant = defineModel<number>('instant', { required: true })

const HOUR = 3_600_000
const LEFT = 216
const Y = { life: 30, top: 74, lane: 46 }
const ROOM = 15
const PRESETS = [['1 h', HOUR], ['1 d', 24 * HOUR], ['7 d', 7 * 24 * HOUR], ['30 d', 30 * 24 * HOUR], ['all', 0]] as const

const root = useTemplateRef<HTMLElement>('root')
const { width } = useElementSize(root)
const right = computed(() => Math.max(LEFT + 200, width.value - 24))
const scale = computed<Scale>(() => ({ ...range.value, left: LEFT, right: right.value }))
const axisY = computed(() => Y.top + members.length * Y.lane)
const x = (at: number) => toX(scale.value, at)
const oldest = computed(() => points[0]?.at.getTime() ?? now)
const life = computed<Scale>(() => ({ from: oldest.value - HOUR, to: Math.max(now, oldest.value + HOUR), left: LEFT, right: right.value }))

const times = computed(() => new Map(members.map((member) => [member, artifacts.filter((a) => a.member === member)])))
const lanes = computed(() =>
  members.map((member, i) => {
    const own = times.value.get(member)!
    const marks = mergeMarks(own.map((a) => a.at.getTime()), scale.value, ROOM)
    return { member, y: Y.top + i * Y.lane + Y.lane / 2, marks: marks.map((mark) => ({ ...mark, count: mark.last - mark.first + 1, artifact: own[mark.first]! })) }
  }),
)
/** Stretches of verified content, as gold seams under the lanes. */
const seams = computed(() => {
  const stretches: [number, number][] = []
  let open: [number, number] | null = null
  for (const point of points) {
    const at = point.at.getTime()
    if (!point.verifiedAt) open = null
    else if (open) open[1] = at
    else stretches.push((open = [at, at]))
  }
  return stretches.filter(([a, b]) => b >= range.value.from && a <= range.value.to)
})
const clampX = (value: number) => Math.max(LEFT, Math.min(right.value, value))
const named = computed(() => {
  let last = -Infinity
  return points.filter((point) => point.name && point.at.getTime() >= range.value.from && point.at.getTime() <= range.value.to).flatMap((point) => {
    const at = x(point.at.getTime())
    if (at < last + 150) return []
    last = at
    return [{ point, x: at, end: at > right.value - 170 }]
  })
})

const zone = computed(() => -new Date(instant.value).getTimezoneOffset() * 60_000)
const ticks = computed(() => {
  const step = axisStep(scale.value, 86)
  return axisTicks(scale.value, step, zone.value).map((at) => ({ at, x: x(at), label: axisLabel(at, step) })).filter((tick) => Math.abs(tick.x - x(now)) > 44)
})
function axisLabel(at: number, step: number): string {
  if (step >= 24 * HOUR || new Date(at).getHours() + new Date(at).getMinutes() === 0) return dateOf(new Date(at))
  return step < 60_000 ? secondsOf(new Date(at)) : clockOf(new Date(at))
}
const lifeTicks = computed(() => axisTicks(life.value, axisStep(life.value, 150), zone.value).map((at) => ({ x: toX(life.value, at), label: dateOf(new Date(at)) })).filter((tick) => tick.x > LEFT + 84 && tick.x < right.value - 20))
const lifeMarks = computed(() => mergeMarks(points.map((point) => point.at.getTime()), life.value, 3))

const bounds = computed(() => ({ least: 10_000, most: Math.max(40 * 24 * HOUR, (now - oldest.value) * 1.5) }))
/** Never so far that nothing of the life is in view. */
function limit({ from, to }: { from: number; to: number }) {
  const shift = from > now ? now - from : to < oldest.value ? oldest.value - to : 0
  return { from: from + shift, to: to + shift }
}
function zoom(at: number, factor: number) {
  const { from, to } = zoomed(scale.value, at, factor, bounds.value)
  range.value = limit({ from, to })
}
function onWheel(event: WheelEvent) {
  if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) pan(event.deltaX)
  else zoom(clampX(pointerX(event)), Math.exp(event.deltaY * 0.0016))
}
function pan(pixels: number) {
  const by = (pixels / (right.value - LEFT)) * (range.value.to - range.value.from)
  range.value = limit({ from: range.value.from + by, to: range.value.to + by })
}
function preset(span: number) {
  const length = span || (now - oldest.value) * 1.06 || HOUR
  const to = span && instant.value < now - length ? instant.value + length / 2 : now + length * 0.05
  range.value = { from: to - length * 1.05, to }
}
const active = computed(() => PRESETS.find(([, span]) => span > 0 && Math.abs((range.value.to - range.value.from) / span - 1.05) < 0.06)?.[0])

const pointerX = (event: MouseEvent) => event.clientX - root.value!.getBoundingClientRect().left
type Drag = { kind: 'pan' | 'scrub' | 'life'; x: number; moved: boolean }
let drag: Drag | null = null
function begin(kind: Drag['kind'], event: PointerEvent) {
  if (event.button !== 0) return
  drag = { kind, x: pointerX(event), moved: false }
  ;(event.currentTarget as Element).setPointerCapture(event.pointerId)
  if (kind === 'life') moveLife(event)
  event.stopPropagation()
}
function move(event: PointerEvent) {
  if (!drag) return
  const at = pointerX(event)
  if (drag.kind === 'pan') {
    if (Math.abs(at - drag.x) > 2) drag.moved = true
    if (drag.moved) pan(drag.x - at)
    drag.x = drag.moved ? at : drag.x
  } else if (drag.kind === 'scrub') instant.value = snapped(clampX(at))
  else moveLife(event)
}
function end(event: PointerEvent) {
  if (drag?.kind === 'pan' && !drag.moved) instant.value = snapped(clampX(pointerX(event)))
  drag = null
}
function moveLife(event: PointerEvent) {
  const middle = toTime(life.value, clampX(pointerX(event)))
  const span = range.value.to - range.value.from
  range.value = limit({ from: middle - span / 2, to: middle + span / 2 })
}
/** Marks attract the scrubber, because between them nothing else can be entered. */
function snapped(at: number): number {
  let best = toTime(scale.value, at)
  let distance = 9
  for (const point of points) {
    const away = Math.abs(x(point.at.getTime()) - at)
    if (away < distance) [best, distance] = [point.at.getTime(), away]
  }
  return Math.min(best, now)
}

function step(direction: 1 | -1) {
  const sorted = points.map((point) => point.at.getTime())
  const next = direction > 0 ? sorted.find((at) => at > instant.value + 0.5) : sorted.findLast((at) => at < instant.value - 0.5)
  if (next === undefined) return
  instant.value = next
  if (next < range.value.from || next > range.value.to) {
    const span = range.value.to - range.value.from
    range.value = { from: next - span / 2, to: next + span / 2 }
  }
}
useEventListener('keydown', (event: KeyboardEvent) => {
  if (event.ctrlKey || event.metaKey || event.altKey || (event.target as HTMLElement).matches('input, textarea, select') || document.querySelector('[role=dialog]')) return
  const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  if (by && event.shiftKey) step(by as 1 | -1)
  else if (by) instant.value = toTime(scale.value, clampX(x(instant.value) + by))
  else if (event.key === '[' || event.key === ']') step(event.key === ']' ? 1 : -1)
  else if (event.key === '+' || event.key === '-') zoom(clampX(x(instant.value)), event.key === '+' ? 0.7 : 1.4)
  else return
  event.preventDefault()
})

const typed = ref('')
const unreadable = ref(false)
function enterTyped() {
  const at = readTime(typed.value)?.getTime()
  unreadable.value = at === undefined
  if (at === undefined) return
  instant.value = Math.min(at, now)
  typed.value = ''
  if (at < range.value.from || at > range.value.to) range.value = limit({ from: at - (range.value.to - range.value.from) / 2, to: at + (range.value.to - range.value.from) / 2 })
}
const scrubX = computed(() => x(instant.value))
const inView = computed(() => scrubX.value >= LEFT - 0.5 && scrubX.value <= right.value + 0.5)
const flipped = computed(() => scrubX.value < LEFT + 150)
const mounted = ref(false)
onMounted(() => (mounted.value = true))
</script>

<template>
  <div ref="root" class="relative select-none">
    <Teleport v-if="mounted" to="#tab-tools">
      <div class="soft flex items-center gap-5 text-[13px]">
        <form class="flex h-[26px] w-[188px] items-center gap-[7px] border-b" :class="unreadable ? 'border-[var(--iron)]' : 'border-[var(--edge)]'" @submit.prevent="enterTyped">
          <UIcon name="i-lucide-crosshair" class="size-3.5 shrink-0" />
          <input v-model="typed" aria-label="Enter a time" :aria-invalid="unreadable" placeholder="yesterday 9:41:07" class="w-full bg-transparent text-[var(--ink)] outline-none placeholder:text-[var(--soft)]" @input="unreadable = false">
        </form>
        <button v-for="[label, span] in PRESETS" :key="label" :class="active === label ? 'font-semibold text-[var(--ink)]' : 'hover:text-[var(--ink)]'" @click="preset(span)">{{ label }}</button>
      </div>
    </Teleport>
    <div class="absolute left-6 leading-[17px]" :style="{ top: `${Y.life - 18}px` }">
      <div class="text-[13px] font-medium">Whole life</div>
      <div class="soft s12">{{ durationInWords(now - oldest) }}, {{ plural(points.length, 'point') }}</div>
    </div>
    <div v-for="lane in lanes" :key="lane.member" class="absolute left-6 flex w-[184px] gap-[9px]" :style="{ top: `${lane.y - 17}px` }">
      <UIcon name="i-lucide-database" class="soft mt-px size-4 shrink-0" />
      <div class="min-w-0 leading-[17px]"><div class="mono cut text-[12.5px] font-medium" :title="lane.member">{{ lane.member }}</div><div class="soft s12">at its marks only, no log</div></div>
    </div>
    <svg :width="width" :height="axisY + 34" class="block touch-none" role="application" aria-label="Lifeline. Arrow keys move the scrubber, brackets go from point to point." tabindex="0"
      @wheel.prevent="onWheel" @pointerdown="begin('pan', $event)" @pointermove="move" @pointerup="end" @pointercancel="end">
      <!-- The whole life, and where the window lies in it. -->
      <g class="cursor-pointer" @pointerdown="begin('life', $event)" @pointermove="move" @pointerup="end">
        <rect :x="LEFT" :y="4" :width="right - LEFT" height="40" fill="transparent" />
        <line :x1="LEFT" :x2="toX(life, now)" :y1="Y.life" :y2="Y.life" stroke="var(--line-strong)" stroke-width="1.5" stroke-dasharray="1.5 4" />
        <line v-for="mark in lifeMarks" :key="mark.first" :x1="mark.x" :x2="mark.x" :y1="Y.life - 6" :y2="Y.life + 1" stroke="var(--ink)" stroke-width="1.2" />
        <line v-for="([a, b], i) in seams" :key="i" :x1="toX(life, a) - 3" :x2="toX(life, b) + 3" :y1="Y.life + 6" :y2="Y.life + 6" stroke="var(--gold-line)" stroke-width="2" />
        <text :x="LEFT" :y="Y.life - 12" font-size="11" fill="var(--soft)">{{ dateOf(new Date(oldest)) }} {{ clockOf(new Date(oldest)) }}</text>
        <text v-for="tick in lifeTicks" :key="tick.x" :x="tick.x" :y="Y.life - 12" font-size="11" fill="var(--soft)" text-anchor="middle">{{ tick.label }}</text>
        <path :d="`M${clampX(toX(life, range.from))} ${Y.life - 9}V${Y.life + 11}H${clampX(toX(life, range.to))}V${Y.life - 9}`" stroke="var(--ink)" stroke-width="1.4" fill="none" />
        <path :d="`M${clampX(toX(life, range.from))} ${Y.life + 11}C${clampX(toX(life, range.from))} ${Y.life + 34} ${LEFT} ${Y.life + 14} ${LEFT} ${Y.top}V${axisY}`" stroke="var(--line-strong)" fill="none" />
      </g>
      <!-- Lanes. -->
      <line v-for="tick in ticks" :key="tick.at" :x1="tick.x" :x2="tick.x" :y1="Y.top" :y2="axisY" stroke="var(--line)" />
      <rect v-if="x(now) < right" :x="clampX(x(now))" :y="Y.top" :width="right - clampX(x(now))" :height="axisY - Y.top" fill="var(--wash)" />
      <g v-for="lane in lanes" :key="lane.member">
        <line x1="24" :x2="right" :y1="lane.y - Y.lane / 2" :y2="lane.y - Y.lane / 2" stroke="var(--line)" />
        <line :x1="clampX(x(oldest))" :x2="clampX(x(now))" :y1="lane.y" :y2="lane.y" stroke="var(--line-strong)" stroke-width="1.5" stroke-dasharray="1.5 4" />
        <line v-for="([a, b], i) in seams" :key="i" :x1="clampX(x(a) - 8)" :x2="clampX(x(b) + 8)" :y1="lane.y + 13" :y2="lane.y + 13" stroke="var(--gold-line)" stroke-width="2" />
        <template v-for="mark in lane.marks" :key="mark.first">
          <g v-if="mark.count > 1">
            <title>{{ mark.count }} backups; zoom in to tell them apart</title>
            <rect :x="mark.x - 13" :y="lane.y - 9.5" width="26" height="19" rx="9.5" fill="var(--ground)" />
            <rect :x="mark.x - 11" :y="lane.y - 7" width="22" height="14" rx="7" fill="var(--ground)" stroke="var(--ink)" stroke-width="1.4" />
            <text :x="mark.x" :y="lane.y + 4" text-anchor="middle" font-size="11" font-weight="600" fill="var(--ink)">{{ mark.count > 99 ? '99+' : mark.count }}</text>
          </g>
          <g v-else class="cursor-pointer" data-mark @click.stop="instant = mark.artifact.at.getTime()">
            <title>{{ mark.artifact.kind }}, {{ fullOf(mark.artifact.at) }}</title>
            <LifelineMark :x="mark.x" :y="lane.y" :kind="mark.artifact.kind" />
          </g>
        </template>
      </g>
      <g v-for="{ point, x: at, end: atEnd } in named" :key="point.id">
        <circle :cx="at + (atEnd ? -11 : 11)" :cy="Y.top + 10" r="3.2" :fill="point.pinned ? 'var(--ink)' : 'none'" stroke="var(--ink)" stroke-width="1.2" />
        <text :x="at + (atEnd ? -19 : 19)" :y="Y.top + 14" font-size="11.5" fill="var(--soft)" :text-anchor="atEnd ? 'end' : 'start'">{{ point.name }}</text>
      </g>
      <!-- Axis. -->
      <line x1="24" :x2="right" :y1="axisY" :y2="axisY" stroke="var(--line-strong)" />
      <g v-for="tick in ticks" :key="tick.at">
        <line :x1="tick.x" :x2="tick.x" :y1="axisY" :y2="axisY + 6" stroke="var(--line-strong)" />
        <text :x="tick.x" :y="axisY + 20" text-anchor="middle" font-size="11.5" fill="var(--soft)">{{ tick.label }}</text>
      </g>
      <!-- Scrubber. -->
      <g v-if="inView" class="cursor-ew-resize" data-scrubber @pointerdown="begin('scrub', $event)" @pointermove="move" @pointerup="end">
        <rect :x="scrubX - 7" :y="Y.top - 12" width="14" :height="axisY - Y.top + 44" fill="transparent" />
        <line :x1="scrubX" :x2="scrubX" :y1="Y.top - 12" :y2="axisY + 34" stroke="var(--ink)" stroke-width="1.6" pointer-events="none" />
        <g :transform="`translate(${flipped ? scrubX - 0.8 : scrubX - 149.2} ${Y.top - 24})`">
          <rect width="150" height="24" rx="4" fill="var(--ink)" />
          <text x="75" y="16.5" text-anchor="middle" font-size="13" font-weight="600" fill="var(--ground)">{{ capital(dayOf(new Date(instant))) }} {{ secondsOf(new Date(instant)) }}</text>
        </g>
      </g>
      <g v-if="x(now) > LEFT && x(now) < right">
        <line :x1="x(now)" :x2="x(now)" :y1="Y.top" :y2="axisY + 7" stroke="var(--ink)" stroke-dasharray="2 3" />
        <text :x="x(now)" :y="axisY + 20" text-anchor="middle" font-size="11.5" font-weight="600" fill="var(--ink)" stroke="var(--ground)" stroke-width="4" paint-order="stroke">now {{ clockOf(new Date(now)) }}</text>
      </g>
    </svg>
  </div>
</template>
