<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { RestoresView, RunDetail } from '~~/server/views'

const route = useRoute()
const { data: run, error, refresh } = useLoad<RunDetail>(() => `/api/runs/${route.params.id}`, { tells: true })
onChange((change) => change.about === 'run' && change.id === route.params.id, refresh, 500)
/** The scratch copy that this run made, while it is there. */
const { data: restores, refresh: lookAgain } = useLoad<RestoresView>(() =>
  run.value?.kind === 'restore' ? `/api/vessels/${run.value.slug}/restores` : null,
)
onChange((change) => change.about === 'scratch', lookAgain, 500)
const scratch = computed(() => restores.value?.scratch.filter((copy) => copy.run === route.params.id) ?? [])
useHead({ title: () => (run.value ? `${RUN_KIND[run.value.kind]} of ${run.value.vessel}` : 'Run') + ' · Unbroken Vessel' })
const now = useTicking(1000)
const active = computed(() => run.value?.state === 'running' || run.value?.state === 'waiting')
/** Why it ended with warnings, before all that it did. */
const warnings = computed(() => (run.value?.state === 'warned' ? run.value.messages.filter(({ level }) => level !== 'info') : []))
const SAID = 4
const failure = shallowRef<ErrorRecord | null>(null)

async function cancel() {
  await post(`/api/runs/${run.value!.id}/cancel`).catch((thrown) => (failure.value = errorOf(thrown)))
  await refresh()
}
/** Where it is decided on once more, where it changes what stands. */
const page = computed(() => (run.value ? pageOfAgain(run.value) : null))
async function again() {
  try {
    const { id } = await post<{ id: string }>(`/api/runs/${run.value!.id}/again`)
    await navigateTo(`/runs/${id}`)
  } catch (thrown) {
    failure.value = errorOf(thrown)
  }
}
</script>

<template>
  <main v-if="error && !run" class="p-6"><ErrorNote :error="error" /></main>
  <main v-else-if="!run" class="grid gap-3 p-6" aria-busy="true"><USkeleton class="h-8 w-2/3" /><USkeleton class="h-40 w-full" /></main>
  <main v-else class="flex min-h-[calc(100vh-52px)] flex-col">
    <div class="flex items-start justify-between gap-6 px-6 pt-[11px] pb-4">
      <div class="min-w-0">
        <RunSentence :run="run" />
        <p class="soft mt-[5px] flex flex-wrap items-center gap-x-2 text-[13px]">
          <UIcon
            :name="RUN_STATE[run.state].icon"
            class="size-4"
            :class="{ 'animate-spin': run.state === 'running' }"
            :style="{ color: RUN_STATE[run.state].color }"
          />
          <span class="font-semibold" data-run-state :style="{ color: RUN_STATE[run.state].color }">{{
            run.cancelling ? 'cancelling' : RUN_STATE[run.state].word
          }}</span>
          <span
            >{{ kindOfRun(run) }} of <NuxtLink :to="`/vessels/${run.slug}`" class="lnk text-[var(--ink)]">{{ run.vessel }}</NuxtLink>,
            definition version {{ run.version }}, {{ whenOf(run.at) }}, started by {{ starterOf(run)
            }}<template v-if="run.startedAt">, {{ active ? 'for' : 'took' }} {{ took(run, now) }}</template></span
          ><CopyIt icon :text="run.id" label="Copy the id of this run" />
        </p>
        <p v-if="run.comment" class="mt-1 text-[13px]">“{{ run.comment }}”</p>
      </div>
      <div class="flex shrink-0 gap-2.5 pt-[3px] print:hidden">
        <UButton v-if="active" :disabled="run.cancelling" @click="cancel">Cancel this run</UButton>
        <template v-else>
          <TakeBack v-if="run.canBeTakenBack" :run="run" />
          <UButton v-if="page" :to="page">Start it again…</UButton>
          <UButton v-else-if="run.kind !== 'fetch' || run.state !== 'done'" @click="again">Start it again</UButton>
        </template>
      </div>
    </div>
    <div class="grid gap-3 px-6 empty:hidden">
      <ErrorNote v-if="failure" :error="failure" />
      <ErrorNote v-if="run.error" :error="run.error" />
      <ul v-if="warnings.length > 0" class="rule border-t border-b border-[var(--line)] text-[13px] mb-4" data-warnings>
        <li v-for="({ text }, i) in warnings.slice(0, SAID)" :key="i" class="flex gap-2.5 py-1.5">
          <UIcon name="i-lucide-triangle-alert" class="warning mt-0.5 size-3.5 shrink-0" aria-hidden="true" />
          <span class="min-w-0 break-words">{{ text }}</span>
        </li>
        <li v-if="warnings.length > SAID" class="soft py-1.5 pl-6">and {{ warnings.length - SAID }} more, below</li>
      </ul>
    </div>
    <ScratchList v-if="scratch.length > 0" :copies="scratch" :of-run="run.id" class="px-6 pb-5" />
    <RunProgress v-if="active && run.kind !== 'hold'" :run="run" :now="now" class="px-6 pt-1 pb-5" />
    <RunPace :run="run" class="px-6 pb-5 print:hidden" />
    <RunReceipt v-if="run.receipt.length > 0" :run="run" class="px-6 pb-5" />
    <RunSteps :run="run" :now="now" class="flex-1" :class="{ 'print:hidden': run.receipt.length > 0 }" />
  </main>
</template>
