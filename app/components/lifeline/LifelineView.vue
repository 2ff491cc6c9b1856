<script setup lang="ts">
import { NOWHERE } from '~~/core/chain/position'
import { axisStep, axisTicks, mergeMarks } from '~~/core/chain/layout'
import type { Artifact } from '~~/core/chain/chain'
import { placeInPlan } from '~~/core/plan/words'
import type { TimeRange } from '~/composables/useTimeWindow'
import type { Lifeline, TraceView } from '~~/server/views'
import type { LifelinePoint } from '~/utils/points'

// The time instrument: whole life above, a lane for each member, the axis, and the scrubber.
const { members, artifacts, points, coverage, audited, breaks, followers, trace, now, gone, coming } = defineProps<{
  members: string[]
  artifacts: Artifact[]
  points: LifelinePoint[]
  /** By member: where every moment can be entered. */
  coverage: Record<string, { from: number; to: number }[]>
  /** By member: up to when its log was audited. */
  audited: Lifeline['audited']
  breaks: Lifeline['breaks']
  followers: Lifeline['followers']
  /** Points that went, newest first. */
  gone: Lifeline['gone']
  /** What the plan makes next. */
  coming: Lifeline['coming']
  /** What changed in view; null when the window is too wide for it. */
  trace: TraceView | null
  now: number
}>()
defineEmits<{ position: [position: string] }>()
const range = defineModel<TimeRange>('window', { required: true })
const moment = defineModel<number>('moment', { required: true })

const LEFT = LIFELINE_LEFT
const LIFE_Y = 30
const LANE = 46
const TRACE = 74
const ROOM = 15

const root = useTemplateRef<HTMLElement>('root')
const { width } = useElementSize(root)
const moments = computed(() => points.map((point) => point.at.getTime()))
const time = useTimeWindow(range, moment, { root, width, points: () => moments.value, now: () => now })
const { scale, right, oldest, x, clampX, begin, move, end, onWheel } = time
const traceY = 98
const Y = computed(() => ({ life: LIFE_Y, top: 74 + (trace ? TRACE : 0), lane: LANE }))
const axisY = computed(() => Y.value.top + members.length * LANE)

const byMember = computed(() => new Map(members.map((member) => [member, artifacts.filter((a) => a.member === member)])))
const lanes = computed(() =>
  members.map((member, i) => {
    const artifacts = byMember.value.get(member)!
    const marks = mergeMarks(
      artifacts.map((a) => a.at.getTime()),
      scale.value,
      ROOM,
    )
    return {
      member,
      icon: artifacts[0]?.to === NOWHERE ? 'i-lucide-box' : 'i-lucide-database',
      y: Y.value.top + i * LANE + LANE / 2,
      bands: bandsOf(member),
      gaps: gapsOf(member),
      seam: auditOf(member),
      word: wordOf(member),
      marks: marks.map((mark) => ({ ...mark, count: mark.last - mark.first + 1, artifact: artifacts[mark.first]! })),
    }
  }),
)
function bandsOf(member: string) {
  return (coverage[member] ?? [])
    .filter(({ from, to }) => to > from && to >= range.value.from && from <= range.value.to)
    .map(({ from, to }) => ({ from: clampX(x(from)), to: clampX(x(to)) }))
}
/** The stretch of log that leads to an audited moment, underlined in gold. */
function auditOf(member: string) {
  if (!audited[member]) return null
  const until = Date.parse(audited[member])
  const band = (coverage[member] ?? []).find(({ from, to }) => from <= until && until <= to)
  if (!band || until < range.value.from || band.from > range.value.to) return null
  return {
    from: clampX(x(band.from)),
    to: clampX(x(until)),
    title: `The log was audited up to ${whenOf(audited[member])}: each table agreed with the source.`,
  }
}
/** A hole is hatched; one that is narrower than a stroke is one. */
function gapsOf(member: string) {
  return breaks.flatMap((hole) => {
    if (hole.member !== member) return []
    const [from, to] = [Date.parse(hole.from), hole.to === null ? now : Date.parse(hole.to)]
    if (to < range.value.from || from > range.value.to) return []
    return [{ ...hole, x: clampX(x(from)), width: clampX(x(to)) - clampX(x(from)), title: `${hole.reason} ${durationInWords(to - from)}.` }]
  })
}
function wordOf(member: string): { text: string; color: string; title: string } {
  const log = followers.find((follower) => follower.member === member)
  const word = (text: string, color: string, title = '') => ({ text, color, title })
  if (!log) return word('at its marks only, no log', 'var(--soft)')
  if (log.state === 'following' && !log.trouble)
    return log.warned
      ? word(`log; ${bytesInWords(log.retained ?? 0)} kept back`, 'var(--warning-text)')
      : word('log, any moment', 'var(--soft)')
  return word(
    log.state === 'broken' ? 'log broken' : log.state === 'waiting' ? 'log not begun' : 'log stalled',
    'var(--error)',
    log.trouble?.what ?? '',
  )
}
/** Points whose members were held together, as lines through their lanes. */
const ties = computed(() =>
  members.length < 2
    ? []
    : points.flatMap(({ id, at, consistency }) => {
        const time = at.getTime()
        return consistency === 'held together' && time >= range.value.from && time <= range.value.to ? [{ id, x: x(time) }] : []
      }),
)
/** Stretches of verified content, as gold seams under the lanes. */
const stretches = computed(() => {
  const all: [number, number][] = []
  let open: [number, number] | null = null
  for (const point of points) {
    const at = point.at.getTime()
    if (!point.verifiedAt) open = null
    else if (open) open[1] = at
    else all.push((open = [at, at]))
  }
  return all
})
const seams = computed(() => stretches.value.filter(([a, b]) => b >= range.value.from && a <= range.value.to))
const inRange = (at: number) => at >= range.value.from && at <= range.value.to
/** Points that went, and those that the plan makes, hollow: what was there, and what is not yet. */
const hollow = computed(() => {
  const merged = <T extends { at: string }>(of: T[]) => {
    const shown = of.filter(({ at }) => inRange(Date.parse(at))).sort((a, b) => a.at.localeCompare(b.at))
    const times = shown.map(({ at }) => Date.parse(at))
    return mergeMarks(times, scale.value, ROOM).map((mark) => ({ x: mark.x, count: mark.last - mark.first + 1, of: shown[mark.first]! }))
  }
  const went = merged(gone).map(({ x, count, of }) => ({
    x,
    key: `gone ${of.id}`,
    what: 'gone',
    title: count > 1 ? `${plural(count, 'point')} went` : `The point of ${whenOf(of.at)} went ${whenOf(of.goneAt)}: ${of.why}.`,
  }))
  const planned = merged(coming).map(({ x, count, of }) => ({
    x,
    key: `coming ${of.at}`,
    what: 'coming',
    title: count > 1 ? `${plural(count, 'point')} of the plan` : `${placeInPlan(of, of.what)}: ${timeOfPlan(of.at, of.zone)}`,
  }))
  return [...went, ...planned]
})
const named = computed(() => {
  let last = -Infinity
  return points
    .filter((point) => (point.name || point.pin) && point.at.getTime() >= range.value.from && point.at.getTime() <= range.value.to)
    .flatMap((point) => {
      const at = x(point.at.getTime())
      if (at < last + 150) return []
      last = at
      return [{ point, x: at, end: at > right.value - 170 }]
    })
})

const zone = computed(() => offsetAt(moment.value))
const ticks = computed(() => {
  const step = axisStep(scale.value, 86)
  return axisTicks(scale.value, step, zone.value)
    .map((at) => ({ at, x: x(at), label: axisLabel(at, step) }))
    .filter((tick) => Math.abs(tick.x - x(now)) > 44)
})
const scrubX = computed(() => x(moment.value))
const inView = computed(() => scrubX.value >= LEFT - 0.5 && scrubX.value <= right.value + 0.5)
const flipped = computed(() => scrubX.value < LEFT + 150)
/** Marks near the edges are drawn as far as the lanes reach, and not over their names. */
const lanesOnly = useId()
const mounted = ref(false)
onMounted(() => (mounted.value = true))
</script>

<template>
  <div ref="root" class="relative select-none">
    <Teleport v-if="mounted" to="#tab-tools">
      <LifelineTools
        :artifacts="artifacts"
        :range="range"
        :logged="followers.length > 0"
        @enter="time.enter"
        @position="$emit('position', $event)"
        @preset="time.preset"
      />
    </Teleport>
    <div class="absolute left-6 leading-[17px]" :style="{ top: `${Y.life - 18}px` }">
      <div class="text-[13px] font-medium">Whole life</div>
      <div class="soft s12">{{ durationInWords(now - oldest) }}, {{ plural(points.length, 'point') }}</div>
    </div>
    <div v-if="trace" class="absolute left-6 leading-[17px]" :style="{ top: `${traceY - 18}px` }">
      <div class="text-[13px] font-medium">Changes</div>
      <div class="soft s12"><span class="glaze">inserted</span>, updated, <span class="error">deleted</span></div>
    </div>
    <div v-for="lane in lanes" :key="lane.member" class="absolute left-6 flex w-[184px] gap-[9px]" :style="{ top: `${lane.y - 17}px` }">
      <UIcon :name="lane.icon" class="soft mt-px size-4 shrink-0" />
      <div class="min-w-0 leading-[17px]">
        <div class="mono cut text-[12.5px] font-medium" :title="lane.member">{{ lane.member }}</div>
        <div class="s12 cut" :style="{ color: lane.word.color }" :title="lane.word.title">{{ lane.word.text }}</div>
      </div>
    </div>
    <svg
      :width="width"
      :height="axisY + 34"
      class="block touch-none"
      role="application"
      aria-label="Lifeline. Arrow keys move the scrubber, brackets go from point to point."
      tabindex="0"
      @wheel.prevent="onWheel"
      @pointerdown="begin('pan', $event)"
      @pointermove="move"
      @pointerup="end"
      @pointercancel="end"
    >
      <clipPath :id="lanesOnly"><rect :x="LEFT - 6" :y="Y.top" :width="Math.max(0, width - LEFT + 6)" :height="axisY - Y.top" /></clipPath>
      <LifelineLife :time="time" :range="range" :points="moments" :seams="stretches" :now="now" :y="Y.life" :top="Y.top" :bottom="axisY" />
      <ChangeTrace v-if="trace" :trace="trace" :time="time" :y="traceY" @enter="time.enter" />
      <!-- Lanes. -->
      <line v-for="tick in ticks" :key="tick.at" :x1="tick.x" :x2="tick.x" :y1="Y.top" :y2="axisY" stroke="var(--line)" />
      <rect
        v-if="x(now) < right"
        :x="clampX(x(now))"
        :y="Y.top"
        :width="right - clampX(x(now))"
        :height="axisY - Y.top"
        fill="var(--wash)"
      />
      <g v-for="tie in ties" :key="tie.id" data-tie>
        <title>Consistent together</title>
        <line :x1="tie.x" :x2="tie.x" :y1="lanes[0]!.y" :y2="lanes.at(-1)!.y" stroke="var(--ink)" stroke-width="1.4" />
      </g>
      <g v-for="lane in lanes" :key="lane.member">
        <line x1="24" :x2="right" :y1="lane.y - Y.lane / 2" :y2="lane.y - Y.lane / 2" stroke="var(--line)" />
        <line
          :x1="clampX(x(oldest))"
          :x2="clampX(x(now))"
          :y1="lane.y"
          :y2="lane.y"
          stroke="var(--line-strong)"
          stroke-width="1.5"
          stroke-dasharray="1.5 4"
        />
        <rect
          v-for="(band, i) in lane.bands"
          :key="`band${i}`"
          data-band
          :x="band.from"
          :y="lane.y - 2.5"
          :width="Math.max(1, band.to - band.from)"
          height="5"
          fill="var(--band)"
        />
        <g v-for="gap in lane.gaps" :key="gap.id" data-gap>
          <title>{{ gap.title }}</title>
          <line v-if="gap.width < 6" :x1="gap.x" :x2="gap.x" :y1="lane.y - 20" :y2="lane.y + 9" stroke="var(--error)" stroke-width="2" />
          <template v-else>
            <rect v-if="gap.tables.length === 0" :x="gap.x" :y="lane.y - 7" :width="gap.width" height="14" fill="var(--ground)" />
            <rect
              v-if="gap.tables.length === 0"
              :x="gap.x"
              :y="lane.y - 7"
              :width="gap.width"
              height="14"
              fill="url(#hatch)"
              stroke="var(--error)"
            />
            <rect v-else :x="gap.x" :y="lane.y + 5" :width="gap.width" height="5" fill="url(#hatch-warning)" />
          </template>
        </g>
        <line
          v-for="([a, b], i) in seams"
          :key="i"
          :x1="clampX(x(a) - 8)"
          :x2="clampX(x(b) + 8)"
          :y1="lane.y + 13"
          :y2="lane.y + 13"
          stroke="var(--gold-line)"
          stroke-width="2"
        />
        <line
          v-if="lane.seam"
          data-audited
          :x1="lane.seam.from"
          :x2="lane.seam.to"
          :y1="lane.y + 4"
          :y2="lane.y + 4"
          stroke="var(--gold-line)"
          stroke-width="2"
        >
          <title>{{ lane.seam.title }}</title>
        </line>
        <g :clip-path="`url(#${lanesOnly})`">
          <g v-for="mark in hollow" :key="mark.key" :data-hollow="mark.what">
            <title>{{ mark.title }}</title>
            <LifelineMark :x="mark.x" :y="lane.y" kind="full" hollow :ground="mark.what === 'coming' ? 'var(--wash)' : 'var(--ground)'" />
          </g>
          <template v-for="mark in lane.marks" :key="mark.first">
            <g v-if="mark.count > 1">
              <title>{{ mark.count }} backups; zoom in to tell them apart</title>
              <rect :x="mark.x - 13" :y="lane.y - 9.5" width="26" height="19" rx="9.5" fill="var(--ground)" />
              <rect
                :x="mark.x - 11"
                :y="lane.y - 7"
                width="22"
                height="14"
                rx="7"
                fill="var(--ground)"
                stroke="var(--ink)"
                stroke-width="1.4"
              />
              <text :x="mark.x" :y="lane.y + 4" text-anchor="middle" font-size="11" font-weight="600" fill="var(--ink)">
                {{ mark.count > 99 ? '99+' : mark.count }}
              </text>
            </g>
            <g v-else class="cursor-pointer" data-mark @click.stop="moment = mark.artifact.at.getTime()">
              <title>{{ mark.artifact.kind }}, {{ fullOf(mark.artifact.at) }}</title>
              <LifelineMark :x="mark.x" :y="lane.y" :kind="mark.artifact.kind" />
            </g>
          </template>
        </g>
      </g>
      <g v-for="{ point, x: at, end: atEnd } in named" :key="point.id">
        <circle
          :cx="at + (atEnd ? -11 : 11)"
          :cy="Y.top + 10"
          r="3.2"
          :fill="point.pin ? 'var(--ink)' : 'none'"
          stroke="var(--ink)"
          stroke-width="1.2"
        />
        <line
          v-if="point.pin"
          :x1="at + (atEnd ? -11 : 11)"
          :x2="at + (atEnd ? -11 : 11)"
          :y1="Y.top + 13"
          :y2="Y.top + 19"
          stroke="var(--ink)"
          stroke-width="1.2"
          data-pinned
        />
        <text :x="at + (atEnd ? -19 : 19)" :y="Y.top + 14" font-size="11.5" fill="var(--soft)" :text-anchor="atEnd ? 'end' : 'start'">
          {{ point.name ?? 'pinned' }}
          <title v-if="point.pin">Pinned by {{ point.pin.by }}: {{ point.pin.reason }}</title>
        </text>
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
          <text x="75" y="16.5" text-anchor="middle" font-size="13" font-weight="600" fill="var(--ground)">
            {{ capital(dayOf(new Date(moment))) }} {{ secondsOf(new Date(moment)) }}
          </text>
        </g>
      </g>
      <g v-if="x(now) > LEFT && x(now) < right">
        <line :x1="x(now)" :x2="x(now)" :y1="Y.top" :y2="axisY + 7" stroke="var(--ink)" stroke-dasharray="2 3" />
        <text
          :x="x(now)"
          :y="axisY + 20"
          text-anchor="middle"
          font-size="11.5"
          font-weight="600"
          fill="var(--ink)"
          stroke="var(--ground)"
          stroke-width="4"
          paint-order="stroke"
        >
          now {{ clockOf(new Date(now)) }}
        </text>
      </g>
    </svg>
  </div>
</template>
