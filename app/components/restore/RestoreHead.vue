<script setup lang="ts">
import { readRef } from '~~/core/chain/moment-ref'
import { lastName } from '~~/core/things/thing'
import type { Lifeline, VesselView } from '~~/server/views'
import type { ChosenPoint } from '~/composables/usePointChoice'

const { chosen, lifeline, vessel } = defineProps<{
  vessel: VesselView
  chosen: ChosenPoint | undefined
  lifeline: Lifeline | null
}>()
const bench = useWorkbench()
defineEmits<{ point: [id: string] }>()
const now = useTicking()
const { choices } = bench

const tables = computed(() => bench.operations.filter((operation) => operation.kind === 'table' && operation.verb !== 'leave'))
const rows = computed(() => tables.value.reduce((sum, operation) => sum + operation.rows, 0))
const replaced = computed(() => tables.value.filter((operation) => operation.verb === 'replace'))
const what = computed(() => (tables.value.length === 1 ? lastName(tables.value[0]!.path) : plural(tables.value.length, 'table')))
const where = computed(() => {
  if (choices.mode === 'scratch') return `to a scratch copy of ${what.value}`
  if (choices.mode === 'elsewhere') return `to ${what.value} in ${choices.elsewhere.database}`
  return `${choices.mode === 'beside' ? 'beside' : 'to'} ${what.value}`
})
const COLLIDE = [
  ['replace', 'replace'],
  ['rename', 'rename'],
  ['merge', 'merge'],
  ['skip', 'skip'],
] as const
const { data: sources } = useSources()
const sourceNames = computed(() => sources.value?.filter(({ kind }) => kind === 'postgres').map(({ name }) => name) ?? [])
/** Choices for databases are in the way where nothing of one is picked. */
const showsDatabase = computed(() => bench.isOfDatabase && (!bench.isOfCluster || bench.operations.length > 0))
/** Asked once it is known what the point holds: what stands under a finger must not become something else. */
const asksOfCollisions = computed(
  () => bench.isOfCluster || (bench.isOfDatabase && (choices.mode === 'original' || choices.mode === 'elsewhere')),
)
const returns = computed(() => {
  const { length } = bench.returning.filter((operation) => 'phase' in operation)
  const volumes = bench.returning.length - length
  return [length > 0 ? plural(length, 'object') : '', volumes > 0 ? plural(volumes, 'volume') : ''].filter(Boolean).join(' and ')
})
/** What is picked of namespaces is there, and is what it was. */
const allSame = computed(
  () =>
    bench.operations.length === 0 &&
    bench.namespaces.length > 0 &&
    bench.namespaces.every(
      ({ makes, operations, volumes }) => !makes && volumes.length === 0 && operations.length > 0 && operations.every(({ same }) => same),
    ),
)
const destination = computed(() => bench.namespaces.map(({ into, source }) => `${into} of ${source}`).join(' and '))
const points = computed(() =>
  [...(lifeline?.points ?? [])]
    .reverse()
    .slice(0, 200)
    .map((point) => ({ label: `${whenOf(point.at)}${point.name ? `, ${point.name}` : ''}`, value: point.id })),
)
/** A way that loses less of what is picked than the point at hand. */
const better = computed(() => betterWay(vessel.losses, vessel.slug, bench.pickedPaths, chosen))
const chosenLoses = computed(() => {
  const way = vessel.losses.flatMap(({ ways }) => ways).find(({ ref }) => ref === chosen?.id)
  return way ? withoutInWords(way) : `loses what was changed between ${whenOf(chosen!.at)} and ${whenOf(better.value!.at)}`
})
</script>

<template>
  <div class="border-b border-[var(--line)] px-6 pt-[11px] pb-3">
    <div class="flex items-start justify-between gap-6">
      <PageSentence class="cut">
        <template v-if="bench.operations.length === 0 && bench.returning.length > 0"
          >{{ returns }} {{ bench.returning.length === 1 ? 'is' : 'are' }} restored to {{ destination
          }}<template v-if="chosen"> as it was {{ whenOf(chosen.at) }}</template
          ><template v-if="bench.namespaces.some(({ overwrites }) => overwrites > 0)"
            >; <u style="border-color: var(--error)">what is there now is overwritten</u></template
          >.</template
        >
        <template v-else-if="allSame"
          >All of it exists <u style="border-color: var(--gold-line)">as it was</u>{{ chosen ? ` ${whenOf(chosen.at)}` : '' }}: there is
          nothing to restore.</template
        >
        <template v-else-if="bench.operations.length === 0"
          >What should be restored from {{ vessel.name }}<template v-if="chosen"> as it was {{ whenOf(chosen.at) }}</template
          >?</template
        >
        <template v-else-if="tables.length === 0"
          >{{ plural(bench.operations.filter((o) => o.verb !== 'leave').length, 'thing') }} without rows
          {{ bench.operations.length === 1 ? 'is' : 'are' }} restored.</template
        >
        <template v-else
          ><template v-if="choices.what === 'structure'">The structure of {{ where }} is restored</template
          ><template v-else-if="tables.every(({ how }) => how === 'merge')">Rows that are missing are restored {{ where }}</template
          ><template v-else>{{ plural(rows, 'row') }} {{ rows === 1 ? 'is' : 'are' }} restored {{ where }}</template
          ><template v-if="chosen"> as {{ tables.length === 1 ? 'it was' : 'they were' }} {{ whenOf(chosen.at) }}</template
          ><template v-if="replaced.length > 0">; <u style="border-color: var(--error)">what is there now is overwritten</u></template
          >.</template
        >
      </PageSentence>
      <NuxtLink :to="`/vessels/${vessel.slug}`" class="soft shrink-0 pt-1.5 text-[13px] hover:text-[var(--ink)]"
        >Back to the lifeline</NuxtLink
      >
    </div>
    <p v-if="better" class="warning mt-1.5 text-[13px]" data-better>
      This starts from an older state than need be: it {{ chosenLoses }}.
      <button type="button" class="lnk" @click="$emit('point', better.ref)">
        {{ better.kind === 'moment' ? 'Start from just before the loss' : `Start from the point of ${whenOf(better.at)}` }}
      </button>
    </p>
    <div class="mt-2.5 flex min-h-[55px] flex-wrap items-end gap-x-5 gap-y-2.5 text-[13px]">
      <div>
        <div class="soft s12 mb-1.5">From</div>
        <div class="flex h-[30px] items-center gap-3">
          <SmallLifeline :recent="vessel.recent" :now="now" :at="chosen ? Date.parse(chosen.at) : undefined" :width="72" />
          <ChoiceInSentence
            :model-value="chosen?.id"
            :items="points"
            label="Another point"
            strong
            :word="chosen ? (readRef(chosen.id) ? `${dayOf(chosen.at)} ${secondsOf(chosen.at)}` : whenOf(chosen.at)) : 'a kept point'"
            @update:model-value="(id) => id && $emit('point', id)"
          />
        </div>
      </div>
      <RestoreInto v-if="bench.isOfCluster" :sources="sources ?? []" :at="chosen?.at ?? null" />
      <RestoreIntoDatabase v-if="bench.isOfDatabase && !bench.isOfCluster" :sources="sourceNames" />
      <div v-if="asksOfCollisions">
        <div class="soft s12 mb-1.5">When names collide</div>
        <ChoiceBar v-model="choices.collide" :choices="COLLIDE" label="When names collide" />
      </div>
      <RestoreMapping v-if="bench.isOfCluster" :key="bench.taken" />
      <RestoreIntoDatabase v-if="bench.isOfCluster && showsDatabase" :sources="sourceNames" />
      <RestoreMore v-if="showsDatabase" />
    </div>
  </div>
</template>
