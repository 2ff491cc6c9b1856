<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { READERS, type Partly } from '~~/core/plan/definition'
import { lanesOf } from '~~/core/quiesce/lanes'
import type { WholeDefinition } from '~/stores/draft'

defineProps<{ saving: boolean; error: ErrorRecord | null }>()
defineEmits<{ save: [] }>()
const draft = useDraft()
const making = ref(false)
const changed = (part: (definition: WholeDefinition) => unknown) =>
  draft.saved !== null && JSON.stringify(part(draft.definition)) !== JSON.stringify(part(draft.saved))

const heldWords = computed(() => {
  const { steps, budgetMs } = draft.definition.quiesce
  if (steps.length === 0) return 'nothing is held'
  const held = lanesOf(draft.definition.quiesce, draft.measured?.last?.lines ?? [], [])
  return held.members.every(({ bars }) => bars.every(({ measured }) => measured))
    ? `held ${durationInWords(held.total)} of ${durationInWords(budgetMs)}`
    : `${plural(steps.length, 'step')}, not measured`
})

const whenWords = computed(() => {
  const { promises, schedule } = draft.definition
  const lines = schedule ? plural(schedule.lines.length, 'line') : 'by hand'
  return promises.couldLose
    ? `${lines}, could lose ${durationInWords(promises.couldLose).replaceAll(' ', '\u00A0')}`
    : `${lines}, nothing promised`
})
const headings = computed(() => [
  {
    id: 'what',
    title: 'What',
    about: `${plural(draft.definition.rules.length, 'rule')}, ${plural(draft.selection?.taken.count ?? 0, 'thing')}`,
    changed: changed((d) => d.rules),
  },
  {
    id: 'quiesce',
    title: 'Quiesce',
    about: heldWords.value,
    changed: changed((d) => d.quiesce),
  },
  {
    id: 'when',
    title: 'When',
    about: whenWords.value,
    changed: changed((d) => [d.promises, d.log, d.schedule]),
  },
  {
    id: 'how-long',
    title: 'How long',
    about: draft.definition.retention ? plural(draft.definition.retention.rules.length, 'rule') : 'until somebody deletes it',
    changed: changed((d) => d.retention),
  },
  { id: 'where', title: 'Where', about: draft.definition.store || 'no store yet', changed: changed((d) => [d.store, d.readers, d.partly]) },
])
const storeItems = computed(() =>
  (draft.stores ?? []).map(({ name, space }) => ({
    label: space ? `${name}, ${bytesInWords(space.free)} free` : `${name}, not reachable`,
    value: name,
  })),
)
const PARTLY: readonly (readonly [Partly, string])[] = [
  ['keep', 'keep the rest'],
  ['fail', 'make no point'],
]
const UNITS = [
  { label: 'minutes', value: 60_000 },
  { label: 'hours', value: 3_600_000 },
  { label: 'days', value: 86_400_000 },
]
async function storeMade(name: string) {
  await draft.refreshStores()
  draft.definition.store = name
}
</script>

<template>
  <div class="grid flex-1 grid-cols-[180px_minmax(0,1fr)_356px] max-[1150px]:grid-cols-[130px_minmax(0,1fr)_300px]">
    <nav class="px-6 pt-4" aria-label="Headings">
      <a
        v-for="heading in headings"
        :key="heading.id"
        :href="`#${heading.id}`"
        class="block border-l border-[var(--line-strong)] pb-5 pl-4 last:pb-1 hover:border-[var(--ink)]"
      >
        <span class="font-medium">{{ heading.title }}</span> <span v-if="heading.changed" class="glaze text-[13px]">changed</span>
        <span class="soft s12 block">{{ heading.about }}</span>
      </a>
    </nav>
    <div class="min-w-0 px-1 pb-10">
      <ErrorNote v-if="draft.stale" :error="draft.stale" class="mt-3" data-figures-stale />
      <RuleList id="what" />
      <DefinitionQuiesce id="quiesce" />
      <section id="when" class="scroll-mt-4 border-t border-[var(--line-strong)] pt-4 pb-6">
        <h2 class="flex items-baseline gap-3">
          <span class="text-[16px] font-semibold">When</span
          ><span class="soft text-[13px]">what is promised; the state of the vessel follows from it</span>
        </h2>
        <div class="rule mt-2 border-y border-[var(--line)] text-[13px]">
          <PromiseField
            v-model="draft.definition.promises.couldLose"
            label="Could lose at most"
            help="RPO: a backup is due before this much time has passed."
            :units="UNITS"
          />
          <PromiseField
            v-model="draft.definition.promises.backWithin"
            label="Back within"
            help="RTO: restoring everything may take this long."
            :units="UNITS"
          />
          <DefinitionSchedule />
          <DefinitionLog />
        </div>
      </section>
      <DefinitionRetention id="how-long" />
      <section id="where" class="scroll-mt-4 border-t border-[var(--line-strong)] pt-4">
        <h2 class="flex items-baseline gap-3">
          <span class="text-[16px] font-semibold">Where</span
          ><span class="soft text-[13px]">compressed, encrypted, and stored only once</span>
        </h2>
        <div class="rule mt-2 border-y border-[var(--line)] text-[13px]">
          <FieldRow label="Store"
            ><USelect
              v-model="draft.definition.store"
              :items="storeItems"
              value-key="value"
              placeholder="choose one"
              class="w-64"
              aria-label="Store"
            /><button class="lnk" @click="making = true">Make a store…</button></FieldRow
          >
          <FieldRow label="If a part can’t be taken"
            ><ChoiceBar v-model="draft.definition.partly" :choices="PARTLY" label="If a part can’t be taken" /><span class="soft">{{
              draft.definition.partly === 'fail'
                ? 'the run fails, and nothing is stored'
                : 'the point is kept with a warning, and says what is missing'
            }}</span></FieldRow
          >
          <FieldRow label="Parallel readers" field="readers"
            ><UInput
              id="readers"
              v-model.number="draft.definition.readers"
              type="number"
              :min="READERS.min"
              :max="READERS.max"
              class="w-24"
            /><span class="soft">connections that read tables at once, all through one snapshot</span></FieldRow
          >
        </div>
      </section>
      <slot />
    </div>
    <DefinitionConsequences :saving="saving" :error="error" @save="$emit('save')" @back="draft.setBack()" />
    <MakeStore v-model:open="making" @made="storeMade" />
  </div>
</template>
