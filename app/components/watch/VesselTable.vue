<script setup lang="ts">
import { provenPart } from '~~/core/restore/receipt'
import type { DataColumn } from '~/components/base/DataTable.vue'
import type { Standing } from '~~/server/views'

const { vessels, picks = false } = defineProps<{ vessels: Standing[]; now: number; picks?: boolean }>()
/** Of the vessels, by their slugs, which are picked to do something with. */
const picked = defineModel<string[]>('picked', { default: () => [] })
const toggle = (slug: string) =>
  (picked.value = picked.value.includes(slug) ? picked.value.filter((other) => other !== slug) : [...picked.value, slug])
const all = computed(() => (picked.value.length === 0 ? false : picked.value.length >= vessels.length || 'indeterminate'))
const RECENT = 3 * 86_400_000
const isMended = (vessel: Standing, now: number) =>
  vessel.state === 'whole' && vessel.proven !== null && now - Date.parse(vessel.proven.at) < RECENT

const COLUMNS: DataColumn<Standing>[] = [
  { id: 'state', head: '', label: 'State', class: 'w-[34px]', cellClass: 'pt-[9px]' },
  { id: 'vessel', head: 'Vessel', by: ({ name }) => name.toLowerCase(), always: true, cellClass: 'pt-2 pr-4' },
  { id: 'recent', head: 'Last 7 days', class: 'w-[216px]', cellClass: 'pt-[10px]' },
  { id: 'could-lose', head: 'Could lose', by: ({ couldLose }) => couldLose, class: 'w-[112px]', cellClass: 'pt-2' },
  { id: 'back-within', head: 'Back within', by: ({ backWithin }) => backWithin, class: 'w-[116px]', cellClass: 'pt-2' },
  { id: 'newest', head: 'Newest point', class: 'w-[88px]', cellClass: 'pt-2' },
  { id: 'proven', head: 'Proven', by: ({ proven }) => (proven ? -Date.parse(proven.at) : null), class: 'w-[92px]', cellClass: 'pt-2' },
]
const PICK: DataColumn<Standing> = { id: 'pick', head: '', class: 'w-[34px]', cellClass: 'pt-[10px]' }
const columns = computed(() => (picks ? [PICK, ...COLUMNS] : COLUMNS))
</script>

<template>
  <DataTable
    name="vessels"
    :rows="vessels"
    :columns="columns"
    order="worst first"
    row-class="h-14 border-b border-[var(--line)] align-top last:border-0"
  >
    <template #head-pick>
      <UCheckbox
        :model-value="all"
        aria-label="Pick all vessels"
        @update:model-value="picked = all === true ? [] : vessels.map(({ slug }) => slug)"
      />
    </template>
    <template #pick-cell="{ row: vessel }">
      <UCheckbox
        :model-value="picked.includes(vessel.slug)"
        :aria-label="`Pick ${vessel.name}`"
        @update:model-value="toggle(vessel.slug)"
      />
    </template>
    <template #state-cell="{ row: vessel }"><VesselBowl :state="isMended(vessel, now) ? 'mended' : vessel.state" :size="22" /></template>
    <template #vessel-cell="{ row: vessel }">
      <div class="flex gap-2 text-[14px]">
        <NuxtLink :to="`/vessels/${vessel.slug}`" class="cut font-semibold hover:underline">{{ vessel.name }}</NuxtLink>
        <span class="shrink-0" :style="{ color: STATE_TEXT[vessel.state] }"
          ><ExplainedWord :why="STATE_WHY[vessel.state]">{{ vessel.state }}</ExplainedWord
          ><template v-if="isMended(vessel, now)">, <ExplainedWord :why="MENDED_WHY">mended</ExplainedWord></template></span
        >
      </div>
      <div class="soft s12 cut" :title="vessel.reason">{{ vessel.reason }}</div>
    </template>
    <template #recent-cell="{ row: vessel }"><SmallLifeline :recent="vessel.recent" :now="now" /></template>
    <template #could-lose-cell="{ row: vessel }"><PromiseGauge :value="vessel.couldLose" :promise="vessel.promises.couldLose" /></template>
    <template #back-within-cell="{ row: vessel }">
      <PromiseGauge :value="vessel.backWithin" :promise="vessel.promises.backWithin" />
      <NuxtLink
        v-if="vessel.rehearsed"
        :to="`/runs/${vessel.rehearsed.run}`"
        class="soft s12 hover:underline"
        :title="`Rehearsed ${fullOf(vessel.rehearsed.at)}: ${plural(vessel.rehearsed.things, 'thing')} read from the store`"
        >rehearsed: {{ durationInWords(vessel.rehearsed.tookMs) }}</NuxtLink
      >
    </template>
    <template #newest-cell="{ row: vessel }">
      <ExplainedWord v-if="vessel.newest" :why="CONSISTENCY[vessel.newest.consistency].why">{{
        CONSISTENCY[vessel.newest.consistency].word
      }}</ExplainedWord>
      <span v-else class="soft">none</span>
      <div v-if="vessel.newest && lackInWords(vessel.newest)" class="warning s12">
        <ExplainedWord :why="LACKS[lackInWords(vessel.newest)!]">{{ lackInWords(vessel.newest) }}</ExplainedWord>
      </div>
    </template>
    <template #proven-cell="{ row: vessel }">
      <template v-if="vessel.proven"
        ><NuxtLink :to="`/runs/${vessel.proven.run}`" class="border-b-2 border-[var(--gold-line)]">{{
          agoInWords(new Date(vessel.proven.at), new Date(now))
        }}</NuxtLink>
        <div class="soft s12">{{ provenPart(vessel.proven) }}</div></template
      >
      <span v-else class="soft">not yet</span>
    </template>
  </DataTable>
</template>
