<script setup lang="ts">
import { Chart, Filler, LinearScale, LineElement, PointElement, Tooltip, type ChartOptions } from 'chart.js'
import { Line } from 'vue-chartjs'
import { axisStep, axisTicks } from '~~/core/chain/layout'

Chart.register(Filler, LinearScale, LineElement, PointElement, Tooltip)

/** A figure over time: `x` in milliseconds, a time or how long after a beginning; what it comes to is told in words, too. */
const props = defineProps<{
  points: { x: number; y: number }[]
  /** What is drawn and what it comes to, for whoever does not see it. */
  label: string
  xWord: (x: number, step: number) => string
  yWord: (y: number) => string
  /** What stands at a point that is pointed at. */
  says: (point: { x: number; y: number }) => string
  /** What a point stands for: the figure from it on, or that of the stretch before it. */
  holds: 'from here on' | 'up to here'
}>()
const ROOM = 76
const INSET = 70
const root = useTemplateRef<HTMLElement>('root')
const { width } = useElementSize(root)
const styles = useChartStyles(root)
const data = computed(() => ({
  datasets: [
    {
      data: props.points,
      borderColor: styles.value?.token('--glaze'),
      backgroundColor: styles.value?.token('--glaze-wash'),
      borderWidth: 1.7,
      pointRadius: 0,
      pointHitRadius: 12,
      pointHoverRadius: 3,
      fill: true,
      stepped: props.holds === 'up to here' ? ('after' as const) : ('before' as const),
    },
  ],
}))
const options = computed((): ChartOptions<'line'> => {
  const { line, soft, edge, font, tooltip } = styles.value!
  const [from, to] = [props.points[0]?.x ?? 0, props.points.at(-1)?.x ?? 1]
  const scale = { from, to, left: 0, right: Math.max(160, width.value - INSET) }
  const step = axisStep(scale, ROOM)
  const zone = from > 1e11 ? offsetAt(to) : 0
  return {
    animation: false,
    parsing: false,
    normalized: true,
    maintainAspectRatio: false,
    interaction: { mode: 'nearest', axis: 'x', intersect: false },
    scales: {
      x: {
        type: 'linear',
        min: from,
        max: to,
        grid: { display: false },
        border: { color: edge },
        ticks: { color: soft, font, maxRotation: 0, autoSkip: false, callback: (at) => props.xWord(Number(at), step) },
        afterBuildTicks: (axis) => (axis.ticks = axisTicks(scale, step, zone).map((value) => ({ value }))),
      },
      y: {
        min: 0,
        grid: { color: line },
        border: { display: false },
        ticks: { color: soft, font, maxTicksLimit: 4, callback: (value) => props.yWord(Number(value)) },
      },
    },
    plugins: {
      tooltip: {
        ...tooltip,
        callbacks: { title: () => '', label: ({ raw }) => props.says(raw as { x: number; y: number }) },
      },
    },
  }
})
</script>

<template>
  <div ref="root" class="relative h-32 min-w-0" role="img" :aria-label="label">
    <Line v-if="styles && width > 0" :data="data" :options="options" aria-hidden="true" />
  </div>
</template>
