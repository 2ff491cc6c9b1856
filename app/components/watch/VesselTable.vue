<script setup lang="ts">
import type { Standing } from '~~/server/views'

const { vessels, picks = false } = defineProps<{ vessels: Standing[]; now: number; picks?: boolean }>()
/** Of the vessels, by their slugs, which are picked to do something with. */
const picked = defineModel<string[]>('picked', { default: () => [] })
const toggle = (slug: string) =>
  (picked.value = picked.value.includes(slug) ? picked.value.filter((one) => one !== slug) : [...picked.value, slug])
const all = computed(() => (picked.value.length === 0 ? false : picked.value.length >= vessels.length || 'indeterminate'))
const RECENT = 3 * 86_400_000
const isMended = (vessel: Standing, now: number) =>
  vessel.state === 'whole' && vessel.proven !== null && now - Date.parse(vessel.proven.at) < RECENT
</script>

<template>
  <table class="table-fixed text-[13px]">
    <colgroup>
      <col v-if="picks" class="w-[34px]" />
      <col class="w-[34px]" />
      <col />
      <col class="w-[216px]" />
      <col class="w-[112px]" />
      <col class="w-[116px]" />
      <col class="w-[88px]" />
      <col class="w-[92px]" />
    </colgroup>
    <thead>
      <tr class="h-[30px] border-b border-[var(--line)]">
        <th v-if="picks">
          <UCheckbox
            :model-value="all"
            aria-label="Pick all vessels"
            @update:model-value="picked = all === true ? [] : vessels.map(({ slug }) => slug)"
          />
        </th>
        <th><span class="sr-only">State</span></th>
        <th>Vessel<span class="soft font-normal">, worst first</span></th>
        <th>Last 7 days</th>
        <th>Could lose</th>
        <th>Back within</th>
        <th>Newest point</th>
        <th>Proven</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="vessel in vessels" :key="vessel.id" data-row class="h-14 border-b border-[var(--line)] align-top last:border-0">
        <td v-if="picks" class="pt-[10px]">
          <UCheckbox
            :model-value="picked.includes(vessel.slug)"
            :aria-label="`Pick ${vessel.name}`"
            @update:model-value="toggle(vessel.slug)"
          />
        </td>
        <td class="pt-[9px]"><VesselBowl :state="isMended(vessel, now) ? 'mended' : vessel.state" :size="22" /></td>
        <td class="pt-2 pr-4">
          <div class="flex gap-2 text-[14px]">
            <NuxtLink :to="`/vessels/${vessel.slug}`" class="cut font-semibold hover:underline">{{ vessel.name }}</NuxtLink>
            <span class="shrink-0" :style="{ color: vessel.state === 'at risk' ? 'var(--warning-text)' : STATE_COLOR[vessel.state] }"
              >{{ vessel.state }}<template v-if="isMended(vessel, now)">, mended</template></span
            >
          </div>
          <div class="soft s12 cut" :title="vessel.reason">{{ vessel.reason }}</div>
        </td>
        <td class="pt-[10px]"><SmallLifeline :recent="vessel.recent" :now="now" /></td>
        <td class="pt-2"><PromiseGauge :value="vessel.couldLose" :promise="vessel.promises.couldLose" /></td>
        <td class="pt-2">
          <PromiseGauge :value="vessel.backWithin" :promise="vessel.promises.backWithin" />
          <NuxtLink
            v-if="vessel.rehearsed"
            :to="`/runs/${vessel.rehearsed.run}`"
            class="soft s12 hover:underline"
            :title="`Rehearsed ${fullOf(vessel.rehearsed.at)}: ${plural(vessel.rehearsed.things, 'thing')} read from the store`"
            >rehearsed: {{ durationInWords(vessel.rehearsed.tookMs) }}</NuxtLink
          >
        </td>
        <td class="pt-2">
          <UTooltip v-if="vessel.newest" :text="CONSISTENCY[vessel.newest.consistency].why"
            ><span>{{ CONSISTENCY[vessel.newest.consistency].word }}</span></UTooltip
          >
          <span v-else class="soft">none</span>
          <div v-if="vessel.newest && !vessel.newest.complete" class="warning s12">
            {{ vessel.newest.missing.some(({ onlyAt }) => onlyAt !== undefined) ? 'only at the source' : 'partial' }}
          </div>
        </td>
        <td class="pt-2">
          <NuxtLink v-if="vessel.proven" :to="`/runs/${vessel.proven.run}`" class="border-b-2 border-[var(--gold-line)]">{{
            agoInWords(new Date(vessel.proven.at), new Date(now))
          }}</NuxtLink>
          <span v-else class="soft">not yet</span>
        </td>
      </tr>
    </tbody>
  </table>
</template>
