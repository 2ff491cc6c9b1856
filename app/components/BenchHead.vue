<script setup lang="ts">
import { readRef } from '~~/core/chain/instant-ref'
import { lastName } from '~~/core/things/thing'
import type { SourceView, Lifeline, VesselView } from '~~/server/views'
import type { ChosenPoint } from '~/composables/usePointChoice'
import type { Workbench } from '~/composables/useWorkbench'

const { bench, chosen, lifeline, vessel } = defineProps<{
  vessel: VesselView
  bench: Workbench
  chosen: ChosenPoint | undefined
  lifeline: Lifeline | null
}>()
defineEmits<{ point: [id: string] }>()
const now = useTicking()
const { choices } = bench

const tables = computed(() => bench.operations.value.filter((operation) => operation.kind === 'table' && operation.verb !== 'leave'))
const rows = computed(() => tables.value.reduce((sum, operation) => sum + operation.rows, 0))
const replaced = computed(() => tables.value.filter((operation) => operation.verb === 'replace'))
const what = computed(() => (tables.value.length === 1 ? lastName(tables.value[0]!.path) : plural(tables.value.length, 'table')))
const where = computed(() => {
  if (choices.mode === 'scratch') return `a scratch copy of ${what.value}`
  if (choices.mode === 'elsewhere') return `${what.value} in ${choices.elsewhere.database}`
  return what.value
})
const INTO = [
  ['original', 'original place'],
  ['beside', 'beside it'],
  ['elsewhere', 'elsewhere'],
  ['scratch', 'a scratch copy'],
] as const
const COLLIDE = [
  ['replace', 'replace'],
  ['rename', 'rename'],
  ['merge', 'merge'],
  ['skip', 'skip'],
] as const
const WHAT = [
  ['both', 'structure and rows'],
  ['structure', 'structure'],
  ['rows', 'rows'],
] as const
const { data: sources } = useLoad<SourceView[]>('/api/sources')
const sourceNames = computed(() => sources.value?.filter(({ kind }) => kind === 'postgres').map(({ name }) => name) ?? [])
const ownSource = computed(() => bench.things.value.find(({ kind }) => kind === 'database')?.path.split('/')[0] ?? '')
/** Choices for databases are in the way where nothing of one is picked. */
const showsDatabase = computed(() => bench.isOfDatabase.value && (!bench.isOfCluster.value || bench.operations.value.length > 0))
const returns = computed(() => {
  const { length } = bench.returning.value.filter((one) => 'phase' in one)
  const volumes = bench.returning.value.length - length
  return [length > 0 ? plural(length, 'object') : '', volumes > 0 ? plural(volumes, 'volume') : ''].filter(Boolean).join(' and ')
})
/** What is picked of namespaces is there, and is what it was. */
const allSame = computed(
  () =>
    bench.operations.value.length === 0 &&
    bench.namespaces.value.length > 0 &&
    bench.namespaces.value.every(
      ({ makes, operations, volumes }) => !makes && volumes.length === 0 && operations.length > 0 && operations.every(({ same }) => same),
    ),
)
const destination = computed(() => bench.namespaces.value.map(({ into, source }) => `${into} of ${source}`).join(' and '))
watch(ownSource, (name) => {
  choices.elsewhere.source ||= name
  choices.scratch.source ||= name
})
const schemas = computed(() => [...new Set(Object.values(bench.contents.data.value?.schemas ?? {}).flat())])
const points = computed(() =>
  [...(lifeline?.points ?? [])]
    .reverse()
    .slice(0, 200)
    .map((point) => ({ label: `${whenOf(point.at)}${point.name ? `, ${point.name}` : ''}`, value: point.id })),
)
/** A way that loses less of what is picked than the point at hand. */
const better = computed(() => betterWay(vessel.losses, vessel.slug, bench.pickedPaths.value, chosen))
const chosenLoses = computed(() => {
  const own = vessel.losses.flatMap(({ ways }) => ways).find(({ ref }) => ref === chosen?.id)
  return own ? withoutInWords(own) : `loses what was changed between ${whenOf(chosen!.at)} and ${whenOf(better.value!.at)}`
})
const HOURS = [1, 4, 8, 24, 72, 168].map((value) => ({ label: value < 24 ? plural(value, 'hour') : plural(value / 24, 'day'), value }))
</script>

<template>
  <div class="border-b border-[var(--line)] px-6 pt-[11px] pb-3">
    <div class="flex items-start justify-between gap-6">
      <PageSentence class="cut">
        <template v-if="bench.operations.value.length === 0 && bench.returning.value.length > 0"
          >{{ returns }} {{ bench.returning.value.length === 1 ? 'is' : 'are' }} restored to {{ destination
          }}<template v-if="chosen"> as it stood {{ whenOf(chosen.at) }}</template
          ><template v-if="bench.namespaces.value.some(({ overwrites }) => overwrites > 0)"
            >; <u style="border-color: var(--iron)">what is there now is overwritten</u></template
          >.</template
        >
        <template v-else-if="allSame"
          >All of it stands there <u style="border-color: var(--gold-line)">as it was</u>{{ chosen ? ` ${whenOf(chosen.at)}` : '' }}: there
          is nothing to restore.</template
        >
        <template v-else-if="bench.operations.value.length === 0"
          >What shall be restored from {{ vessel.name }}<template v-if="chosen"> as it stood {{ whenOf(chosen.at) }}</template
          >?</template
        >
        <template v-else-if="tables.length === 0"
          >{{ plural(bench.operations.value.filter((o) => o.verb !== 'leave').length, 'thing') }} without rows
          {{ bench.operations.value.length === 1 ? 'is' : 'are' }} restored.</template
        >
        <template v-else
          ><template v-if="choices.what === 'structure'">The structure of {{ where }} is restored</template
          ><template v-else-if="tables.every(({ how }) => how === 'merge')">Rows that are missing are restored to {{ where }}</template
          ><template v-else>{{ plural(rows, 'row') }} {{ rows === 1 ? 'is' : 'are' }} restored to {{ where }}</template
          ><template v-if="chosen"> as {{ tables.length === 1 ? 'it' : 'they' }} stood {{ whenOf(chosen.at) }}</template
          ><template v-if="replaced.length > 0">; <u style="border-color: var(--iron)">what is there now is overwritten</u></template
          >.</template
        >
      </PageSentence>
      <NuxtLink :to="`/vessels/${vessel.slug}`" class="soft shrink-0 pt-1.5 text-[13px] hover:text-[var(--ink)]"
        >Back to the lifeline</NuxtLink
      >
    </div>
    <p v-if="better" class="ochre mt-1.5 text-[13px]" data-better>
      This starts from an older state than need be: it {{ chosenLoses }}.
      <button type="button" class="lnk" @click="$emit('point', better.ref)">
        {{ better.kind === 'moment' ? 'Start from just before the loss' : `Start from the point of ${whenOf(better.at)}` }}
      </button>
    </p>
    <div class="mt-2.5 flex flex-wrap items-end gap-x-5 gap-y-2.5 text-[13px]">
      <div>
        <div class="soft s12 mb-1.5">From</div>
        <div class="flex h-[30px] items-center gap-3">
          <SmallLifeline :recent="vessel.recent" :now="now" :at="chosen ? Date.parse(chosen.at) : undefined" :width="72" />
          <PickInline
            :model-value="chosen?.id"
            :items="points"
            label="Another point"
            strong
            :word="chosen ? (readRef(chosen.id) ? `${dayOf(chosen.at)} ${secondsOf(chosen.at)}` : whenOf(chosen.at)) : 'a kept point'"
            @update:model-value="(id) => id && $emit('point', id)"
          />
        </div>
      </div>
      <BenchInto v-if="bench.isOfCluster.value" :bench="bench" :sources="sources ?? []" />
      <div v-if="showsDatabase">
        <div class="soft s12 mb-1.5">{{ bench.isOfCluster.value ? 'Database into' : 'Into' }}</div>
        <div class="flex items-center gap-2.5">
          <ChoiceBar v-model="choices.mode" :choices="INTO" label="Into" />
          <template v-if="choices.mode === 'beside'">
            <UInputMenu
              :model-value="choices.beside.schema ?? undefined"
              :items="schemas"
              create-item
              placeholder="its own schema"
              aria-label="In which schema"
              class="w-36"
              @update:model-value="(name) => (choices.beside.schema = name || null)"
              @create="(name: string) => (choices.beside.schema = name)"
            />
            <UInput
              v-model="choices.beside.prefix"
              name="prefix"
              placeholder="prefix"
              aria-label="Prefix of names"
              class="w-20"
              :maxlength="40"
            />
            <UInput
              v-model="choices.beside.suffix"
              name="suffix"
              placeholder="suffix"
              aria-label="Suffix of names"
              class="w-20"
              :maxlength="40"
            />
          </template>
          <template v-else-if="choices.mode === 'elsewhere'">
            <USelect
              v-if="sourceNames.length > 1"
              v-model="choices.elsewhere.source"
              :items="sourceNames"
              aria-label="On which source"
              class="h-[30px] w-32"
            />
            <UInput
              v-model="choices.elsewhere.database"
              name="database"
              placeholder="database"
              aria-label="Into which database"
              class="w-36"
              :maxlength="63"
            />
          </template>
          <template v-else-if="choices.mode === 'scratch'">
            <USelect
              v-if="sourceNames.length > 1"
              v-model="choices.scratch.source"
              :items="sourceNames"
              aria-label="On which source"
              class="h-[30px] w-32"
            />
            <span class="soft">gone after</span>
            <USelect v-model="choices.scratch.hours" value-key="value" :items="HOURS" aria-label="Gone after" class="h-[30px] w-24" />
          </template>
        </div>
      </div>
      <div v-if="showsDatabase">
        <div class="soft s12 mb-1.5">What of it</div>
        <ChoiceBar v-model="choices.what" :choices="WHAT" label="What of it" />
      </div>
      <div v-if="!showsDatabase || choices.mode === 'original' || choices.mode === 'elsewhere'">
        <div class="soft s12 mb-1.5">When names collide</div>
        <ChoiceBar v-model="choices.collide" :choices="COLLIDE" label="When names collide" />
      </div>
      <BenchMore v-if="showsDatabase" :bench="bench" />
      <BenchMapping v-if="bench.isOfCluster.value" :bench="bench" />
    </div>
  </div>
</template>
