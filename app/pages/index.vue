<script setup lang="ts">
import type { WatchView } from '~~/server/views'

useHead({ title: 'Watch · Unbroken Vessel' })
const { data, error, refresh } = useLoad<WatchView>('/api/watch', { tells: true })
onChange(() => true, refresh, 1500)
// A loss is told at once, whatever else goes on.
onChange(({ about }) => about === 'loss', refresh, 100)
useIntervalFn(refresh, 60_000)
const now = useTicking(1000)
const pausing = ref(false)
const fail = useFailure()
async function resume() {
  await $fetch('/api/pause', { method: 'DELETE' }).catch(fail)
  await refresh()
}
const today = computed(() => longDayOf(now.value))

const vessels = computed(() => worstFirst(data.value?.vessels ?? []))
const parts = computed(() =>
  (['whole', 'at risk', 'broken', 'paused'] as const)
    .map((state) => ({ state, count: vessels.value.filter((vessel) => vessel.state === state).length }))
    .filter(({ count }) => count > 0),
)
</script>

<template>
  <main v-if="error && !data" class="p-6"><ErrorNote :error="error" /></main>
  <main v-else-if="!data" class="grid gap-4 p-6" aria-busy="true">
    <USkeleton class="h-9 w-96" /><USkeleton v-for="i in 4" :key="i" class="h-14 w-full" />
  </main>
  <main v-else class="flex min-h-[calc(100vh-52px)] flex-col">
    <div class="flex items-baseline justify-between px-6 pt-4 pb-3">
      <PageSentence large>
        <template v-if="vessels.length === 0">No vessel is defined yet, so nothing is protected.</template>
        <template v-else>
          {{ capital(numberInWords(vessels.length)) }} {{ vessels.length === 1 ? 'vessel' : 'vessels' }}.
          <template v-for="({ state, count }, i) in parts" :key="state"
            ><template v-if="i > 0">, </template
            ><NuxtLink :to="`/vessels?state=${state}`" :style="{ borderColor: STATE_COLOR[state] }"
              >{{ i === 0 ? capital(numberInWords(count)) : numberInWords(count) }} {{ state }}</NuxtLink
            ></template
          >.
        </template>
        <template v-if="data.losses.length > 0">
          {{ ' '
          }}<a href="#losses" style="border-color: var(--error)"
            >{{ capital(numberInWords(data.losses.length)) }} {{ data.losses.length === 1 ? 'loss' : 'losses' }}</a
          >.
        </template>
      </PageSentence>
      <span class="soft s13 num flex shrink-0 gap-4"
        ><button v-if="!data.pause && data.coming.length > 0" class="lnk" data-pause @click="pausing = true">Pause everything…</button
        >{{ today }}, {{ secondsOf(new Date(now)) }}</span
      >
    </div>
    <p v-if="data.pause" class="warning mx-6 mb-3 border-l-2 border-[var(--warning)] pl-3 text-[13px]" role="status" data-all-paused>
      <b class="font-semibold">Everything is paused</b> since {{ whenOf(data.pause.since) }} by {{ data.pause.by }}: {{ data.pause.reason }}
      <template v-if="data.pause.until">It goes on {{ whenOf(data.pause.until) }}.</template>
      <button class="lnk text-[var(--ink)]" data-resume @click="resume">Resume</button>
    </p>
    <PauseIt v-model:open="pausing" address="/api/pause" name="everything" />
    <div class="grid gap-7 px-6 pb-6 min-[1180px]:grid-cols-[minmax(0,1fr)_328px]">
      <section aria-label="Vessels">
        <FirstSteps v-if="vessels.every(({ points }) => points === 0)" :vessels="vessels" class="mb-6" />
        <VesselTable v-if="vessels.length > 0" :vessels="vessels" :now="now" />
      </section>
      <div
        class="grid min-w-0 grid-cols-[minmax(0,1fr)] content-start gap-6"
        :class="{ 'max-[1179px]:order-first': data.losses.length > 0 }"
      >
        <LossList :losses="data.losses" :returned="data.returned" @changed="refresh" />
        <NeedsAttention :attention="data.attention" />
        <UnprotectedList :unprotected="data.unprotected" />
      </div>
    </div>
    <RunsOfLastDay class="flex-1" :runs="data.runs" :coming="data.coming" :vessels="vessels" :now="now" />
  </main>
</template>
