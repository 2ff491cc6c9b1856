<script setup lang="ts">
import type { Act, HoldStep } from '~~/core/quiesce/sequence'
import { placeInWords } from '~~/core/things/thing'
import type { HoldLine } from '~~/server/views'

// One step: where it runs, what it runs, its limit, what if it fails, and what releases it.
const { id } = defineProps<{ id: string; isCluster: boolean; line: HoldLine | undefined }>()
defineEmits<{ remove: [] }>()
const draft = useDraft()
// One that was taken away is shown as it was until this goes, too.
const step = computed<HoldStep>((before) => draft.definition.quiesce.steps.find((step) => step.id === id) ?? before!)
const memberItems = computed(() =>
  [...new Set([...(draft.selection?.members ?? []), step.value.member])]
    .filter(Boolean)
    .map((value) => ({ value, label: placeInWords(value) })),
)
const limit = computed({
  get: () => step.value.limitMs / 1000,
  set: (seconds: number) => (step.value.limitMs = Math.round(seconds * 1000)),
})
const FAILURE = [
  ['stop', 'make no backup'],
  ['go on', 'go on, as after a crash'],
] as const
const DOES = [
  ['holds', 'it holds, and is released'],
  ['prepares', 'it only prepares: nothing to release'],
] as const
const does = computed({
  get: () => (step.value.prepares ? 'prepares' : 'holds'),
  set: (what: 'holds' | 'prepares') => {
    step.value.prepares = what === 'prepares' || undefined
    step.value.release = what === 'prepares' ? null : blankAct(step.value.act.kind)
  },
})
/** Another act. A release is most often of the same kind as what it releases, and runs in the same place. */
function putAct(act: Act) {
  const { prepares, release } = step.value
  if (act.kind !== step.value.act.kind) {
    step.value.prepares = act.kind === 'scale' ? undefined : prepares
    step.value.release = act.kind === 'scale' || prepares ? null : blankAct(act.kind)
  } else if (act.kind === 'exec' && release?.kind === 'exec') {
    const { selector, container, pods, active } = act
    step.value.release = { ...release, selector, container, pods, active }
  }
  step.value.act = act
}
</script>

<template>
  <div class="border-b border-[var(--line)] pt-2.5 pb-3 text-[13px]" data-step-form>
    <div class="grid grid-cols-[160px_1fr] items-center gap-x-3 gap-y-2">
      <label for="step-name">Step</label>
      <span class="flex items-center gap-3">
        <UInput id="step-name" v-model="step.name" class="w-44" :maxlength="40" />
        <span class="soft">on</span>
        <USelect v-model="step.member" :items="memberItems" value-key="value" class="min-w-56" aria-label="Member that it holds" />
        <button type="button" class="lnk ml-auto" data-remove-step @click="$emit('remove')">Remove it</button>
      </span>
      <template v-if="step.act.kind !== 'scale'">
        <span>Does</span><span><ChoiceBar v-model="does" :choices="DOES" label="What the step does" /></span>
      </template>
      <span class="self-start pt-1.5">{{ step.prepares ? 'Prepares by' : 'Holds by' }}</span>
      <QuiesceAct
        :model-value="step.act"
        :is-cluster="isCluster"
        :measured="draft.measured"
        :label="step.prepares ? 'Prepares by' : 'Holds by'"
        @update:model-value="putAct"
      />
      <template v-if="step.release">
        <span class="self-start pt-1.5">Releases by</span>
        <QuiesceAct v-model="step.release" :is-cluster="isCluster" :measured="draft.measured" label="Releases by" releasing />
      </template>
      <template v-else-if="!step.prepares"
        ><span>Releases by</span
        ><span class="soft">giving back as many replicas as there were, and waiting until they are ready</span></template
      >
      <label for="step-limit">Has at most</label>
      <span class="flex items-center gap-3"
        ><UInput id="step-limit" v-model.number="limit" type="number" min="0.1" step="0.5" class="w-24" /><span class="soft"
          >seconds; if it fails then,</span
        ><ChoiceBar v-model="step.onFailure" :choices="FAILURE" label="If it fails"
      /></span>
    </div>
    <div v-if="line" class="mt-3 border-t border-[var(--line)] pt-2">
      <p class="flex flex-wrap gap-x-4">
        <span :class="line.failure ? 'error font-medium' : ''">{{
          line.failure ?? `${step.prepares ? 'Done' : 'Held'} after ${durationInWords((line.held ?? line.begun) - line.begun)}`
        }}</span>
        <span v-if="line.released !== null && line.held !== null && !step.prepares" class="soft"
          >for {{ durationInWords(line.released - line.held) }}</span
        >
        <span v-if="line.where" class="mono soft">{{ line.where }}</span>
      </p>
      <pre
        v-if="line.output"
        class="mono mt-1 max-h-40 overflow-auto border-l-2 border-[var(--line-strong)] pl-3 text-[11.5px] leading-[17px] whitespace-pre-wrap"
        >{{ line.output }}</pre>
    </div>
  </div>
</template>
