<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { definitionTroubles } from '~~/core/plan/definition'
import { longestBetween } from '~~/core/plan/loss'
import { scheduleTroubles } from '~~/core/plan/schedule'
import { loggedPart } from '~~/core/selection/rules'
import { estimateRestore } from '~~/core/plan/state'
import { lanesOf } from '~~/core/quiesce/lanes'
import type { Since } from '~~/server/views'

defineProps<{ saving: boolean; error: ErrorRecord | null }>()
defineEmits<{ save: []; back: [] }>()
const draft = useDraft()
const { definition, saved, selection, version } = storeToRefs(draft)
const { data: since, refresh: refreshSince } = useLoad<Since | null>(() => (draft.slug ? `/api/vessels/${draft.slug}/since` : null))
onChange((change) => change.about === 'things', refreshSince, 1000)
watch(version, refreshSince)
const now = useTicking(60_000)
const taken = computed(() => selection.value?.taken)
const store = computed(() => draft.stores?.find(({ name }) => name === definition.value.store))
const back = computed(() => estimateRestore(taken.value?.bytes ?? 0, null))
/** What a first full will take in the store, by how well this store has compressed so far. */
const stored = computed(() => {
  const ratio = store.value && store.value.plain > 1e6 ? store.value.bytes / store.value.plain : 0.35
  return (taken.value?.bytes ?? 0) * ratio
})
/** What is held and for how long, as it was measured; null where it was not. */
const held = computed(() => {
  if (definition.value.quiesce.steps.length === 0) return null
  const { members, total } = lanesOf(definition.value.quiesce, draft.measured?.last?.lines ?? [], [])
  return members.every(({ bars }) => bars.every(({ measured }) => measured)) ? total : null
})
const logged = computed(() => loggedPart(definition.value.rules))
/** The longest time between two points of its plan, while that can be used. */
const between = computed(() => {
  const { schedule } = definition.value
  return schedule && scheduleTroubles(schedule).length === 0 ? longestBetween(schedule, now.value) : null
})
/** A promise that the plan itself can't keep, where no log keeps it. */
const unkept = computed(() => {
  const { promises, log } = definition.value
  if (between.value === null || promises.couldLose === null || between.value <= promises.couldLose) return ''
  if (log.follow && logged.value === 'all') return ''
  const longest = `${durationInWords(between.value)} may pass between two points of the plan`
  const namespaces = log.follow && logged.value === 'some' ? ' Namespaces have no log that would keep it.' : ''
  return `${longest}, and the promise is ${durationInWords(promises.couldLose)}.${namespaces}`
})
/** What could be lost, by what of it has a log. */
const couldLose = computed(() => {
  const { couldLose: promised } = definition.value.promises
  const byHand = promised ? `${durationInWords(promised)}, if a backup ends before each` : 'nothing is promised'
  const byBackups = between.value === null ? byHand : `${durationInWords(between.value)}, between two points of its plan`
  if (!definition.value.log.follow || logged.value === 'none') return [byBackups]
  const byLog = `about ${durationInWords(definition.value.log.everySeconds * 1000)}: what the log has not brought into the store yet`
  return logged.value === 'all' ? [byLog] : [`of databases ${byLog}`, `of namespaces ${byBackups}`]
})
const troubles = computed(() => definitionTroubles(definition.value))
const isChanged = computed(() => saved.value === null || draft.isChanged)
const signed = (count: number, word: (value: number) => string) =>
  count === 0 ? 'same' : `${count > 0 ? '+' : '−'}${word(Math.abs(count))}`
const than = computed(() => selection.value?.than ?? null)
const difference = computed(() =>
  than.value && taken.value ? { things: taken.value.count - than.value.count, bytes: taken.value.bytes - than.value.bytes } : null,
)
const words = computed(() => (saved.value && draft.isChanged ? changesInWords(definition.value, saved.value, than.value) : ''))
const KINDS_SHOWN = 6
</script>

<template>
  <aside class="sheet border-t-0 border-l border-l-[var(--line)] px-5 pt-3.5 pb-6 text-[13px]" aria-label="Consequences">
    <h2 class="flex items-baseline justify-between border-b border-[var(--line)] pb-2">
      <span class="text-[16px] font-semibold">Consequences</span
      ><span class="soft">{{ saved ? `against version ${version}` : 'not saved yet' }}</span>
    </h2>
    <dl class="rule border-b border-[var(--line)]">
      <div class="grid min-h-[34px] grid-cols-[118px_1fr_auto] items-center">
        <dt class="soft">Taken</dt>
        <dd class="font-semibold">{{ plural(taken?.count ?? 0, 'thing') }}</dd>
        <dd class="num">{{ difference ? signed(difference.things, countInWords) : '' }}</dd>
      </div>
      <div v-if="taken && taken.kinds.length > 0" class="grid min-h-[34px] grid-cols-[118px_1fr] items-center" data-kinds>
        <dt class="soft">By kind</dt>
        <dd class="flex flex-wrap gap-x-3 py-1.5" :title="taken.kinds.map(([kind, count]) => `${kindInWords(kind)} ${count}`).join('\n')">
          <span v-for="[kind, count] in taken.kinds.slice(0, KINDS_SHOWN)" :key="kind"
            >{{ kindInWords(kind) }} <b class="font-semibold">{{ countInWords(count) }}</b></span
          ><span v-if="taken.kinds.length > KINDS_SHOWN" class="soft">{{ plural(taken.kinds.length - KINDS_SHOWN, 'more kind') }}</span>
        </dd>
      </div>
      <div v-if="logged !== 'none'" class="grid min-h-[34px] grid-cols-[118px_1fr_auto] items-center">
        <dt class="soft">Tables</dt>
        <dd>
          <b class="font-semibold">{{ countInWords(taken?.tables ?? 0) }}</b>, about {{ countInWords(taken?.rows ?? 0) }} rows
        </dd>
        <dd />
      </div>
      <div v-if="taken && taken.objects > 0" class="grid min-h-[34px] grid-cols-[118px_1fr_auto] items-center">
        <dt class="soft">From clusters</dt>
        <dd>
          <b class="font-semibold">{{ plural(taken.objects, 'object') }}</b>, {{ plural(taken.volumes, 'volume') }}
        </dd>
        <dd />
      </div>
      <div class="grid min-h-[34px] grid-cols-[118px_1fr_auto] items-center">
        <dt class="soft">Size</dt>
        <dd class="font-semibold">{{ bytesInWords(taken?.bytes ?? 0) }}</dd>
        <dd class="num">{{ difference ? signed(difference.bytes, bytesInWords) : '' }}</dd>
      </div>
      <div class="grid min-h-[34px] grid-cols-[118px_1fr] items-center">
        <dt class="soft">Quiesced</dt>
        <dd v-if="held !== null" class="py-1.5"><PromiseGauge :value="held" :promise="definition.quiesce.budgetMs" /></dd>
        <dd v-else-if="definition.quiesce.steps.length > 0">
          {{ durationInWords(definition.quiesce.budgetMs) }} at most; a rehearsal measures it
        </dd>
        <dd v-else>nothing is held</dd>
      </div>
      <div class="grid min-h-[46px] grid-cols-[118px_1fr] items-center">
        <dt class="soft">Could lose</dt>
        <dd class="py-1">
          <p v-for="line in couldLose" :key="line">{{ line }}</p>
        </dd>
      </div>
      <div class="grid min-h-[46px] grid-cols-[118px_1fr] items-center">
        <dt class="soft">Back within</dt>
        <dd><PromiseGauge :value="back" :promise="definition.promises.backWithin" /></dd>
      </div>
      <div class="grid min-h-[34px] grid-cols-[118px_1fr] items-center">
        <dt class="soft">First full backup</dt>
        <dd class="py-1.5">
          about {{ bytesInWords(stored) }} in {{ definition.store || 'the store'
          }}<template v-if="store?.space"> ({{ bytesInWords(store.space.free) }} free)</template>
        </dd>
      </div>
    </dl>
    <DefinitionSimulation />
    <DefinitionSince v-if="since" :since="since" />
    <p v-if="store?.space && stored > store.space.free" class="error mt-3 font-medium">The store has not enough space for it.</p>
    <p v-if="unkept" class="warning mt-3" data-unkept>{{ unkept }}</p>
    <ul v-if="troubles.length > 0" class="warning mt-3 grid gap-1">
      <li v-for="trouble in troubles" :key="trouble">{{ trouble }}</li>
    </ul>
    <p v-else-if="saved && isChanged" class="mt-3 leading-[19px]"><b class="font-semibold">Not saved yet.</b> {{ words }}</p>
    <p v-else-if="saved" class="soft mt-3">This is version {{ version }}, as saved.</p>
    <ErrorNote v-if="error" :error="error" class="mt-3" />
    <div class="mt-4 flex gap-2.5">
      <UButton
        data-save-definition
        color="primary"
        variant="solid"
        :disabled="troubles.length > 0 || !isChanged"
        :loading="saving"
        @click="$emit('save')"
        >Save as version {{ version + 1 }}</UButton
      >
      <UButton v-if="saved" :disabled="!isChanged" @click="$emit('back')">Discard changes</UButton>
    </div>
  </aside>
</template>
