<script setup lang="ts">
// On every page: what it shows is not of now, or not there at all, for a reason that may pass.
const loads = useLoads()
const { lost } = storeToRefs(useScreen())
// What has no answer for a good reason is told where it would stand, if anything stands there.
const failing = computed(() => [...loads.failing].filter(({ mayPass, tellers, data }) => mayPass || tellers === 0 || data.value !== null))
const since = computed(() => failing.value.map(({ failingSince }) => failingSince!).sort((a, b) => a.getTime() - b.getTime())[0])
const isAsking = ref(false)
async function ask() {
  isAsking.value = true
  await loads.askNow()
  isAsking.value = false
}
</script>

<template>
  <AlertStrip v-if="since && !lost" icon="i-lucide-history" data-stale>
    <span class="min-w-0">
      <b class="font-semibold">Not all of this page is of now.</b>
      {{ failing.length === 1 ? 'One part of it' : `${capital(numberInWords(failing.length))} parts of it` }} could not be loaded since
      {{ secondsOf(since) }}: {{ failing[0]!.error.value?.what }}
      <template v-if="failing[0]!.mayPass">It is asked for again by itself.</template>
    </span>
    <button
      type="button"
      class="ml-auto shrink-0 rounded-[4px] border border-current px-2.5 py-0.5 font-semibold"
      :disabled="isAsking"
      @click="ask"
    >
      Ask now
    </button>
  </AlertStrip>
</template>
