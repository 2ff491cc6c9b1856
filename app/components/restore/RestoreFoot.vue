<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { Lack } from '~~/core/content/missing'
import { estimateRestore } from '~~/core/plan/state'
import type { VesselView } from '~~/server/views'
import type { ChosenPoint } from '~/composables/usePointChoice'

const { vessel, failure, lack } = defineProps<{
  vessel: VesselView
  point: ChosenPoint | null
  /** What the point lacks, where that has to be agreed to. */
  lack: Lack | null
  sending: boolean
  failure: ErrorRecord | null
}>()
const bench = useWorkbench()
/** That a point that lacks something is taken as it is. */
const asItIs = defineModel<boolean>('asItIs', { required: true })
const emit = defineEmits<{ go: [rehearsal: boolean] }>()
const reason = defineModel<string>('reason', { required: true })
const sum = (pick: (plan: { rows: number; bytes: number; overwrites: number }) => number) =>
  bench.plans.reduce((all, plan) => all + pick(plan), 0)
const active = computed(() => bench.operations.filter((operation) => operation.verb !== 'leave'))
/** Whether anything would be done. */
const does = computed(() => active.value.length + bench.returning.length > 0)
/** Why nothing would be done. */
const idle = computed(() => {
  if (bench.picks.size === 0 && Object.keys(bench.choices.cluster.files).length === 0) return 'Nothing is picked yet.'
  if (!bench.wish || bench.trouble) return ''
  return bench.planning ? 'Planning…' : 'Nothing would be changed.'
})
/** Something that stands is changed, which asks for a reason. */
const changes = computed(() => [...active.value, ...bench.returning].some(({ verb }) => verb === 'replace' || verb === 'merge'))
const replaces = computed(
  () =>
    active.value.some(({ verb, overwrites }) => verb === 'replace' || overwrites !== null) ||
    bench.namespaces.some(({ overwrites }) => overwrites > 0),
)
const ready = computed(
  () => does.value && bench.blockers.length === 0 && bench.namespaces.every(({ blockers }) => blockers.length === 0) && !bench.planning,
)
const bytes = computed(() => sum((plan) => plan.bytes) + bench.namespaces.reduce((all, plan) => all + plan.bytes, 0))
const files = computed(() => bench.namespaces.reduce((all, plan) => all + plan.files, 0))
const objects = computed(() => bench.returning.filter((operation) => 'phase' in operation).length)
const rows = computed(() => sum((plan) => plan.rows))
const tables = computed(() => active.value.filter((operation) => operation.kind === 'table').length)
const missing = computed(() => changes.value && reason.value.trim() === '')
const overwritten = computed(() => sum((plan) => plan.overwrites))
const input = useTemplateRef<HTMLInputElement>('input')
const asked = ref(false)
function restore() {
  asked.value = missing.value
  if (missing.value) input.value?.focus()
  else emit('go', false)
}
</script>

<template>
  <footer class="border-t border-[var(--line-strong)] px-6 py-2.5">
    <ErrorNote v-if="failure" :error="failure" class="mb-2" />
    <div v-if="lack" class="mb-2 flex items-center gap-4 text-[13px]" data-lack>
      <span class="warning cut" :title="lack.first"
        >{{ plural(lack.count, 'thing') }} of this point {{ lack.count === 1 ? 'is' : 'are' }} missing. {{ lack.first }}</span
      >
      <UCheckbox v-model="asItIs" label="Take it as it is" class="shrink-0" />
    </div>
    <div class="flex items-center gap-7 text-[13px]">
      <p v-if="!does" class="soft">{{ idle }}</p>
      <template v-else>
        <div v-if="active.length > 0" class="leading-[18px]">
          <b class="font-semibold">{{ plural(rows, 'row') }}</b>
          <div class="soft s12">into {{ plural(tables, 'table') }}</div>
        </div>
        <div v-if="bench.returning.length > 0" class="leading-[18px]">
          <b class="font-semibold">{{ plural(objects, 'object') }}</b>
          <div class="soft s12">{{ plural(files, 'file') }}</div>
        </div>
        <div class="leading-[18px]">
          <b class="font-semibold">{{ bytesInWords(bytes) }}</b>
          <div class="soft s12">to read</div>
        </div>
        <div class="leading-[18px]">
          <b class="font-semibold">about {{ durationInWords(estimateRestore(bytes, vessel.restoreRate)) }}</b>
          <div class="soft s12">estimated time</div>
        </div>
      </template>
      <div v-if="replaces" class="leading-[18px]">
        <b class="error font-semibold">{{
          overwritten > 0 ? `about ${countInWords(overwritten)} rows overwritten` : 'what exists there is overwritten'
        }}</b>
        <div class="soft s12">kept as a point first</div>
      </div>
      <label
        v-if="changes"
        class="flex min-w-0 flex-1 items-center gap-2.5 border-b py-1.5"
        :class="asked && missing ? 'border-[var(--error)]' : 'border-[var(--edge)]'"
      >
        <span class="shrink-0" :class="asked && missing ? 'error' : 'soft'">Reason, for the receipt</span>
        <input
          ref="input"
          v-model="reason"
          name="reason"
          class="min-w-0 flex-1 bg-transparent"
          :maxlength="500"
          :aria-invalid="asked && missing"
          @keydown.enter="restore"
        />
      </label>
      <div class="ml-auto flex gap-2.5">
        <SaveRestore
          v-if="bench.wish && Object.keys(bench.choices.rows).length === 0"
          :slug="vessel.slug"
          :wish="bench.wish"
          :reason="reason"
          :point="point"
        />
        <UButton :disabled="!ready" :loading="sending" @click="emit('go', true)">Rehearse</UButton>
        <UButton
          data-go
          color="primary"
          variant="solid"
          :disabled="!ready || (lack !== null && !asItIs)"
          :loading="sending"
          @click="restore"
          >Restore</UButton
        >
      </div>
    </div>
  </footer>
</template>
