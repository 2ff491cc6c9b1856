<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { LIMITS, tidied, type HoldStep } from '~~/core/quiesce/sequence'

// The quiesce sequence: a lane for each member, steps from left to right, the held stretch shaded.
const draft = useDraft()
const { selection, measured, slug } = storeToRefs(draft)
const quiesce = computed(() => draft.definition.quiesce)
const members = computed(() => selection.value?.members ?? [])
const chosen = ref<string | null>(null)
const step = computed(() => quiesce.value.steps.find(({ id }) => id === chosen.value))
const budget = computed({
  get: () => quiesce.value.budgetMs / 1000,
  set: (seconds: number) => (quiesce.value.budgetMs = Math.round(seconds * 1000)),
})

function add() {
  const member = step.value?.member ?? members.value[0] ?? ''
  const names = new Set(quiesce.value.steps.map(({ name }) => name))
  let number = quiesce.value.steps.length + 1
  while (names.has(`step ${number}`)) number++
  const isCluster = selection.value?.clusters.includes(member) ?? false
  const made: HoldStep = {
    id: crypto.randomUUID(),
    name: `step ${number}`,
    member,
    turn: Math.max(-1, ...quiesce.value.steps.map(({ turn }) => turn)) + 1,
    act: blankAct(isCluster ? 'exec' : 'sql'),
    limitMs: 2000,
    onFailure: 'stop',
    release: blankAct(isCluster ? 'exec' : 'sql'),
  }
  draft.putSteps([...quiesce.value.steps, made])
  chosen.value = made.id
}
function remove(id: string) {
  draft.putSteps(tidied(quiesce.value.steps.filter((step) => step.id !== id)))
  if (chosen.value === id) chosen.value = null
}

// A rehearsal holds for real, so what it found is shown where the steps are.
const rehearsing = ref<string | null>(null)
const error = shallowRef<ErrorRecord | null>(null)
async function rehearse() {
  error.value = null
  try {
    rehearsing.value = (await post<{ id: string }>(`/api/vessels/${slug.value}/quiesce`, quiesce.value)).id
  } catch (thrown) {
    error.value = errorOf(thrown)
  }
}
onChange(
  (change) => change.about === 'run' && change.id === rehearsing.value && !['waiting', 'running', 'cancelling'].includes(change.state),
  () => {
    rehearsing.value = null
    void draft.refreshMeasured()
  },
)
const line = computed(() =>
  measured.value?.last?.lines.find(({ name, member }) => name === step.value?.name && member === step.value.member),
)
const trouble = computed(() => measured.value?.last?.lines.filter(({ failure, state }) => failure !== null || state === 'stuck') ?? [])
const last = computed(() => measured.value?.last)
</script>

<template>
  <section class="scroll-mt-4 border-t border-[var(--line-strong)] pt-4 pb-6" data-quiesce>
    <h2 class="flex items-baseline gap-3">
      <span class="text-[16px] font-semibold">Quiesce</span>
      <span class="soft cut text-[13px]">
        <template v-if="last"
          >as measured by
          <NuxtLink :to="`/runs/${last.run}`" class="lnk"
            >the {{ last.kind === 'hold' ? 'rehearsal' : 'backup' }} {{ whenOf(last.at) }}</NuxtLink
          ></template
        ><template v-else>how the members are held while they are captured</template></span
      >
      <span class="ml-auto flex shrink-0 gap-2.5">
        <UButton :disabled="members.length === 0" data-add-step @click="add">Add a step</UButton>
        <UButton
          icon="i-lucide-timer"
          :disabled="slug === null || quiesce.steps.length === 0"
          :title="slug === null ? 'Save the vessel first' : 'Holds and releases for real, without backing up'"
          :loading="rehearsing !== null"
          data-rehearse-hold
          @click="rehearse"
          >Rehearse</UButton
        ></span
      >
    </h2>
    <p v-if="quiesce.steps.length === 0" class="soft mt-2 border-y border-[var(--line)] py-3 text-[13px]">
      Nothing is held. Databases are consistent in themselves all the same; what namespaces hold is copied as it is found: from snapshots as
      after a crash, without them while it is in use.
    </p>
    <QuiesceLanes
      v-else
      :steps="quiesce.steps"
      v-model:chosen="chosen"
      :quiesce="quiesce"
      :members="members"
      :lines="measured?.last?.lines ?? []"
      @update:steps="draft.putSteps"
      @remove="remove"
    />
    <QuiesceStep
      v-if="step"
      :id="step.id"
      :key="step.id"
      :is-cluster="selection?.clusters.includes(step.member) ?? false"
      :line="line"
      @remove="remove(step.id)"
    />
    <div
      v-if="quiesce.steps.length > 0"
      class="grid min-h-11 grid-cols-[160px_1fr] items-center gap-3 border-b border-[var(--line)] py-1.5 text-[13px]"
    >
      <label for="quiesce-budget">Held at most</label>
      <span class="flex items-center gap-3"
        ><UInput id="quiesce-budget" v-model.number="budget" type="number" :min="LIMITS.budget.min / 1000" step="0.5" class="w-24" /><span
          class="soft"
          >seconds, from the first step; then everything is released by force</span
        ></span
      >
    </div>
    <DefinitionReads v-if="quiesce.steps.length > 0" />
    <p v-if="quiesce.steps.length > 0 && selection && selection.inPlace.length > 0" class="warning mt-2 text-[13px]">
      {{ selection.inPlace.length === 1 ? `${selection.inPlace[0]} gives` : `${plural(selection.inPlace.length, 'volume')} give` }} no
      snapshots, so the hold lasts while {{ selection.inPlace.length === 1 ? 'it is' : 'they are' }} read.
    </p>
    <ErrorNote v-if="error" :error="error" class="mt-3" />
    <ul v-if="trouble.length > 0" class="mt-2 grid gap-1 text-[13px]">
      <li v-for="failed in trouble" :key="failed.name" class="error">
        <b class="font-semibold">{{ failed.name }}</b> {{ failed.failure ?? failed.trouble }}
      </li>
    </ul>
  </section>
</template>
