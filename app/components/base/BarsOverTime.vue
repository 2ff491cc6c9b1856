<script setup lang="ts">
import { BarController, BarElement, CategoryScale, Chart, LinearScale, Tooltip, type ChartOptions } from 'chart.js'
import { Bar } from 'vue-chartjs'

Chart.register(BarController, BarElement, CategoryScale, LinearScale, Tooltip)

/** Bars by day, stacked or side by side; what they come to is told in words, too. */
const props = defineProps<{
  /** What stands below the bars. */
  days: string[]
  series: { name: string; values: number[]; color: string }[]
  stacked?: boolean
  label: string
  yWord: (y: number) => string
}>()
const root = useTemplateRef<HTMLElement>('root')
const { width } = useElementSize(root)
const styles = useChartStyles(root)
const data = computed(() => ({
  labels: props.days,
  datasets: props.series.map(({ name, values, color }) => ({
    label: name,
    data: values,
    backgroundColor: styles.value?.token(color),
    maxBarThickness: 18,
  })),
}))
const options = computed((): ChartOptions<'bar'> => {
  const { line, soft, edge, font, tooltip } = styles.value!
  return {
    animation: false,
    maintainAspectRatio: false,
    interaction: { mode: 'index', intersect: false },
    scales: {
      x: {
        stacked: props.stacked,
        grid: { display: false },
        border: { color: edge },
        ticks: { color: soft, font, maxRotation: 0, autoSkipPadding: 24 },
      },
      y: {
        stacked: props.stacked,
        min: 0,
        grid: { color: line },
        border: { display: false },
        ticks: { color: soft, font, maxTicksLimit: 4, callback: (value) => props.yWord(Number(value)) },
      },
    },
    plugins: {
      tooltip: {
        ...tooltip,
        displayColors: true,
        filter: ({ raw }) => Number(raw) > 0,
        callbacks: { label: ({ dataset, raw }) => `${dataset.label}: ${props.yWord(Number(raw))}` },
      },
    },
  }
})
</script>

<template>
  <div ref="root" class="relative h-44 min-w-0" role="img" :aria-label="label">
    <Bar v-if="styles && width > 0" :data="data" :options="options" aria-hidden="true" />
  </div>
</template>
