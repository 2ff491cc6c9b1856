<script setup lang="ts">
import { placeInWords } from '~~/core/things/thing'
import type { ErrorRecord } from '~~/core/errors'
import type { OpenHold } from '~~/server/views'

// On every page, for as long as anything is held.
const { data: holds, error: unknown, refresh } = useHolds({ tells: true })
let heard = Date.now()
watch(holds, () => (heard = Date.now()))
const now = useTicking(100, () => (holds.value?.length ?? 0) > 0)
const since = (hold: OpenHold) => hold.since + Math.max(0, now.value - heard)
const error = shallowRef<ErrorRecord | null>(null)
async function act(path: string, body?: object) {
  error.value = null
  await post(path, body).catch((thrown) => (error.value = errorOf(thrown)))
  await refresh()
}
</script>

<template>
  <AlertStrip v-if="unknown" icon="i-lucide-circle-help" data-holds-unknown>
    <span
      ><b class="font-semibold">Whether anything is still held is not known{{ holds ? ` since ${secondsOf(new Date(heard))}` : '' }}.</b>
      {{ unknown.what }} It is asked again by itself; a hold ends by itself when its limit is over.</span
    >
  </AlertStrip>
  <div v-if="holds && holds.length > 0" role="status" data-hold-strip>
    <div v-for="hold in holds" :key="hold.run" class="bg-[var(--hold)] px-6 text-[13px] text-[var(--on-fill)]">
      <div v-if="hold.stuck.length === 0" class="flex h-9 items-center gap-3">
        <span class="font-semibold">Holding {{ hold.vessel }}</span>
        <span class="num"
          ><template v-if="hold.of > 1">{{ hold.members }} of {{ hold.of }} members, </template>{{ (since(hold) / 1000).toFixed(1) }} s of
          {{ durationInWords(hold.budget) }}</span
        >
        <NuxtLink :to="`/runs/${hold.run}`" class="underline">Open the run</NuxtLink>
        <button type="button" class="strip-button ml-auto" data-release-now @click="act('/api/holds/release', { run: hold.run })">
          Release now
        </button>
      </div>
      <div v-for="stuck in hold.stuck" :key="stuck.id" class="flex min-h-9 items-center gap-3 py-1.5">
        <UIcon name="i-lucide-octagon-alert" class="size-4 shrink-0" />
        <span class="min-w-0"
          ><b class="font-semibold">{{ hold.vessel }} is still held</b>: “{{ stuck.name }}” on {{ placeInWords(stuck.member) }} could not be
          released by <span class="mono">{{ stuck.how }}</span>. {{ stuck.trouble }} Tried {{ plural(stuck.attempts, 'time') }}; it goes on
          trying.</span
        >
        <span class="ml-auto flex shrink-0 gap-2">
          <button type="button" class="strip-button" @click="act('/api/holds/release', { run: hold.run })">Release now</button>
          <button
            type="button"
            class="strip-button"
            title="You have released it in another way"
            @click="act(`/api/holds/${stuck.id}/said`)"
          >
            Mark as released
          </button>
        </span>
      </div>
    </div>
    <ErrorNote v-if="error" :error="error" class="mx-6 my-2" />
  </div>
</template>

<style scoped>
.strip-button {
  border: 1px solid currentcolor;
  border-radius: 4px;
  padding: 2px 10px;
  font-weight: 600;
}
.strip-button:hover {
  background: var(--on-fill);
  color: var(--hold);
}
</style>
