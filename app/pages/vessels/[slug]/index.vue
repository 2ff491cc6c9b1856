<script setup lang="ts">
import { useDebounceFn } from '@vueuse/core'
import { commonStretches } from '~~/core/chain/chain'
import { refAtPosition, refAtTime } from '~~/core/chain/moment-ref'
import type { MomentView, Lifeline, Missing, TraceView, VesselView } from '~~/server/views'

const { vessel, now } = defineProps<{ vessel: VesselView; now: number }>()
const route = useRoute()
const setQuery = useQuery()
const { data, error, refresh } = useLoad<Lifeline>(() => `/api/vessels/${vessel.slug}/lifeline`, { tells: true })
watch(() => vessel.newest?.id, refresh)
onChange((change) => change.about === 'vessel' && change.id === vessel.id, refresh, 1000)
onChange(
  (change) => change.about === 'log' && change.vessel === vessel.id,
  () => (refresh(), refreshTrace()),
  3000,
)

const HOUR = 3_600_000
// The window and the moment live in the address, so that a link shows the same.
const window = ref(readWindow())
const moment = ref(readMoment())
/** A position in a log, which is finer than any time; it holds until the scrubber moves. */
const position = ref<string | null>(route.query.exact ? String(route.query.exact) : null)
const side = ref<'before' | 'after'>(route.query.side === 'after' ? 'after' : 'before')
function readMoment(): number {
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
let written = ''
const remember = useDebounceFn(
  () => {
    const iso = (at: number) => new Date(at).toISOString()
    const here = {
      at: iso(moment.value),
      from: iso(window.value.from),
      to: iso(window.value.to),
      exact: position.value ?? undefined,
      side: position.value ? side.value : undefined,
    }
    written = JSON.stringify(here)
    void setQuery(here)
  },
  200,
  { maxWait: 400 },
)
watch([window, moment, position], remember)
watch(moment, () => (position.value = null), { flush: 'sync' })
// A link on this page, or the browser's Back, leads to another stretch.
watch(
  () => route.query,
  ({ at, from, to, exact, side: beside }) => {
    if (!at || JSON.stringify({ at, from, to, exact, side: beside }) === written) return
    window.value = readWindow()
    moment.value = readMoment()
    position.value = exact ? String(exact) : null
    side.value = beside === 'after' ? 'after' : 'before'
  },
)

const artifacts = computed(() =>
  (data.value?.artifacts ?? []).map((artifact) => ({ ...artifact, at: new Date(artifact.at), fromAt: new Date(artifact.fromAt) })),
)
const points = computed(() =>
  (data.value?.points ?? []).map((point) => ({ ...point, at: new Date(point.at), keeping: data.value!.keeping[point.id] ?? null })),
)
const coverage = computed(() =>
  Object.fromEntries(
    Object.entries(data.value?.coverage ?? {}).map(([member, stretches]) => [
      member,
      stretches.map(({ from, to }) => ({ from: Date.parse(from), to: Date.parse(to) })),
    ]),
  ),
)
const bands = computed(() => {
  const dates = Object.values(data.value?.coverage ?? {}).map((stretches) =>
    stretches.map(({ from, to }) => ({ from: new Date(from), to: new Date(to) })),
  )
  return commonStretches(dates).map(({ from, to }) => ({ from: from.getTime(), to: to.getTime() }))
})
const point = computed(() => (position.value ? undefined : points.value.find(({ at }) => Math.abs(at.getTime() - moment.value) < 1)))

const wanted = computed(() => position.value ?? refAtTime(vessel.slug, Math.round(moment.value) * 1000))
const entered = refDebounced(wanted, 120)
const { data: state, error: stateError } = useLoad<MomentView>(
  () => (data.value && data.value.points.length > 0 ? `/api/vessels/${vessel.slug}/moment?ref=${encodeURIComponent(entered.value)}` : null),
  { tells: true },
)
// What is not exact there takes a look into the structure, so it is asked for once the scrubber rests.
const rested = refDebounced(wanted, 400)
const { data: unsure } = useLoad<Missing[]>(() =>
  state.value && !point.value ? `/api/vessels/${vessel.slug}/unsure?ref=${encodeURIComponent(rested.value)}` : null,
)
// Kept while the next one is on its way, so that the panel does not flicker.
const shown = shallowRef<MomentView | null>(null)
watch([state, stateError], () => (shown.value = state.value ?? (stateError.value ? null : shown.value)))

const DAY_AND_A_HALF = 36 * HOUR
const close = computed(() => window.value.to - window.value.from <= DAY_AND_A_HALF)
const traced = refDebounced(
  computed(() => (close.value && data.value && data.value.followers.length > 0 ? { ...window.value } : null)),
  150,
)
const { data: trace, refresh: refreshTrace } = useLoad<TraceView>(() => {
  const range = traced.value
  if (!range) return null
  const iso = (at: number) => new Date(Math.round(at / 1000) * 1000).toISOString()
  return `/api/vessels/${vessel.slug}/trace?from=${iso(range.from)}&to=${iso(Math.min(range.to, now + HOUR))}`
})
const lastTrace = shallowRef<TraceView | null>(null)
watch(trace, (next) => (lastTrace.value = next ?? lastTrace.value))

/** A position lies where its transaction does; the scrubber goes there, a millisecond before or after. */
function beside(ref: string, at: number, where: 'before' | 'after') {
  moment.value = where === 'before' ? at - 1 : at + 1
  position.value = ref
  side.value = where
}
const fail = useFailure()
async function enterPosition(text: string) {
  const source = data.value?.members[0]?.split('/')[0]
  if (!source) return
  const ref = refAtPosition(vessel.slug, source, text)
  const view = await $fetch<MomentView>(`/api/vessels/${vessel.slug}/moment?ref=${encodeURIComponent(ref)}`).catch(fail)
  if (!view) return
  moment.value = Date.parse(view.at as unknown as string)
  position.value = ref
  side.value = 'after'
}
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
        v-model:moment="moment"
        :members="data.members"
        :artifacts="artifacts"
        :points="points"
        :coverage="coverage"
        :audited="data.audited"
        :breaks="data.breaks"
        :followers="data.followers"
        :gone="data.gone"
        :coming="data.coming"
        :trace="close ? lastTrace : null"
        :now="now"
        @position="enterPosition"
      />
      <AtThisMoment
        class="flex-1"
        :vessel="vessel"
        :moment="moment"
        :reference="point?.id ?? wanted"
        :precise="position === null ? null : side"
        :state="shown"
        :error="stateError"
        :point="point"
        :unsure="point ? [] : (unsure ?? [])"
        :points="points"
        :bands="bands"
        :heavy="close && data.followers.length > 0 ? (lastTrace?.heavy ?? []) : null"
        :breaks="data.breaks"
        @enter="moment = $event"
        @beside="beside"
      />
    </template>
  </div>
</template>
