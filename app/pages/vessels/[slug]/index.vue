<script setup lang="ts">
import { instantOf, type Artifact } from '~~/core/chain/chain'
import type { Lifeline, VesselView } from '~~/server/views'

const { vessel, now } = defineProps<{ vessel: VesselView; now: number }>()
const route = useRoute()
const router = useRouter()
const { data, error, refresh } = useLoad<Lifeline>(() => `/api/vessels/${vessel.slug}/lifeline`)
watch(() => vessel.newest?.id, refresh)

const HOUR = 3_600_000
// The window and the instant live in the address, so that a link shows the same.
const window = ref(readWindow())
const instant = ref(readInstant())
function readInstant(): number {
  const at = Date.parse(String(route.query.at ?? ''))
  return Number.isNaN(at) ? (vessel.newest ? Date.parse(vessel.newest.at) : now) : at
}
function readWindow(): { from: number; to: number } {
  const [from, to] = [Date.parse(String(route.query.from ?? '')), Date.parse(String(route.query.to ?? ''))]
  if (from < to) return { from, to }
  const oldest = vessel.oldest ? Date.parse(vessel.oldest) : now
  const span = Math.max(HOUR, Math.min(7 * 24 * HOUR, (now - oldest) * 1.06))
  return { from: now - span, to: now + span * 0.05 }
}
const remember = useThrottleFn(
  () => {
    const iso = (at: number) => new Date(at).toISOString()
    void router.replace({ query: { ...route.query, at: iso(instant.value), from: iso(window.value.from), to: iso(window.value.to) } })
  },
  400,
  true,
  false,
)
watch([window, instant], remember)

const artifacts = computed(() => (data.value?.artifacts ?? []).map((artifact): Artifact => ({ ...artifact, at: new Date(artifact.at) })))
const points = computed(() => (data.value?.points ?? []).map((point) => ({ ...point, at: new Date(point.at) })))
const state = computed(() => instantOf(data.value?.members ?? [], artifacts.value, points.value, new Date(instant.value)))
const point = computed(() => points.value.find((candidate) => candidate.id === state.value.point?.id))
</script>

<template>
  <div class="flex flex-1 flex-col">
    <ErrorNote v-if="error && !data" :error="error" class="m-6" />
    <USkeleton v-else-if="!data" class="m-6 h-72" />
    <div v-else-if="data.points.length === 0" class="soft max-w-xl p-6">
      No backup has been made yet, so there is nothing to enter. <b class="font-semibold text-[var(--ink)]">Back up now</b> makes the first
      point.
    </div>
    <template v-else>
      <LifelineView
        v-model:window="window"
        v-model:instant="instant"
        :members="data.members"
        :artifacts="artifacts"
        :points="points"
        :now="now"
      />
      <AtThisInstant
        class="flex-1"
        :vessel="vessel"
        :instant="instant"
        :state="state"
        :point="point"
        :points="points"
        @enter="instant = $event"
      />
    </template>
  </div>
</template>
