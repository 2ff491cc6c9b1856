<script setup lang="ts">
import type { ScheduleView, VesselView } from '~~/server/views'

// Times of a vessel's plan that did not come about as they should, newest first.
const { vessel } = defineProps<{ vessel: VesselView }>()
const { data, refresh } = useLoad<ScheduleView>(() => `/api/vessels/${vessel.slug}/schedule`)
onChange((change) => (change.about === 'run' && change.vessel === vessel.id) || change.about === 'vessel', refresh, 1000)
const MOST = 6
const odd = computed(() =>
  (data.value?.due ?? []).filter(({ outcome, why, tries }) => outcome !== 'run' || why || tries > 0).slice(0, MOST),
)
const zone = computed(() => vessel.definition.schedule?.zone ?? 'UTC')
const wordOf = ({ outcome, times, tries }: ScheduleView['due'][number]) => {
  if (outcome === 'run') return tries > 0 ? `tried ${tries + 1} times` : 'late'
  return times > 1 ? `${outcome}, ${times} times` : outcome
}
</script>

<template>
  <section v-if="odd.length > 0" class="mb-4" aria-label="Not as planned" data-not-as-planned>
    <h2 class="flex items-baseline gap-3 border-b border-[var(--line)] pt-2 pb-1.5">
      <span class="text-[14px] font-semibold">Not as planned</span><span class="soft s12">the newest of the plan’s times</span>
    </h2>
    <ul class="rule text-[13px]">
      <li v-for="due in odd" :key="due.id" class="grid min-h-9 grid-cols-[400px_130px_130px_1fr] items-center gap-3 py-1.5">
        <span
          >{{ timeOfPlan(due.dueAt, zone)
          }}<template v-if="due.times > 1"
            ><br /><span class="soft s12">to {{ timeOfPlan(due.lastDueAt, zone) }}</span></template
          ></span
        >
        <span class="cut" :title="due.line">{{ due.line }}</span>
        <span :class="due.outcome === 'run' ? '' : 'warning'">{{ wordOf(due) }}</span>
        <span class="flex min-w-0 items-baseline gap-3"
          ><span class="soft cut" :title="due.why ?? ''">{{ due.why }}</span
          ><NuxtLink v-if="due.run" :to="`/runs/${due.run}`" class="lnk ml-auto shrink-0">Its run</NuxtLink></span
        >
      </li>
    </ul>
  </section>
</template>
