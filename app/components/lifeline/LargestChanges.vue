<script setup lang="ts">
import { refAtPosition } from '~~/core/chain/moment-ref'
import type { Heavy, VesselView } from '~~/server/views'

// Transactions that changed much in the stretch in view, the heaviest first, each with the way to just before it.
const { vessel, heavy } = defineProps<{ vessel: VesselView; heavy: Heavy[] }>()
defineEmits<{ beside: [ref: string, at: number, side: 'before' | 'after'] }>()
const lines = computed(() =>
  heavy.slice(0, 5).map((change) => {
    const main = [...change.tables].sort((a, b) => weightOf(b.tally) - weightOf(a.tally))[0]!
    return { ...change, main, more: change.tables.length - 1 }
  }),
)
const undoOf = ({ member, position, end }: Heavy) => ({ path: `/vessels/${vessel.slug}/undo`, query: { member, position, end } })
</script>

<template>
  <div>
    <h3 class="text-[13px] font-semibold">Large changes in view</h3>
    <ul class="rule mt-1.5 border-t border-[var(--line)] text-[13px]">
      <li v-for="line in lines" :key="`${line.member}${line.position}`" class="flex min-h-11 items-center gap-3 py-1.5" data-heavy>
        <div class="min-w-0 flex-1 leading-[18px]">
          <div class="cut" :title="line.tables.map(({ name, tally }) => `${name}: ${talliedInWords(tally)}`).join('; ')">
            <b class="font-semibold" :class="line.main.tally[2] > 0 || line.main.tally[3] > 0 ? 'error' : ''">{{
              talliedInWords(line.main.tally)
            }}</b>
            {{ line.main.tally[2] > 0 ? 'from' : 'in' }} <span class="mono text-[12px]">{{ line.main.name }}</span><span
              v-if="line.more > 0"
              class="soft"
            >
              and {{ plural(line.more, 'table') }} more</span
            >
          </div>
          <div class="soft s12 cut" :title="fullOf(line.at)">
            {{ dayOf(line.at) }} {{ secondsOf(line.at) }}<template v-if="line.application">, by {{ line.application }}</template
            ><template v-else-if="line.role">, by {{ line.role }}</template>
          </div>
        </div>
        <UButton
          size="sm"
          @click="
            $emit(
              'beside',
              refAtPosition(vessel.slug, line.source, line.position, Date.parse(line.at) * 1000),
              Date.parse(line.at),
              'before',
            )
          "
          >Just before this</UButton
        >
        <button
          type="button"
          class="lnk"
          title="Just after this"
          @click="
            $emit('beside', refAtPosition(vessel.slug, line.source, line.end, Date.parse(line.at) * 1000), Date.parse(line.at), 'after')
          "
        >
          after
        </button>
        <UButton size="sm" :to="undoOf(line)">Undo…</UButton>
      </li>
      <li v-if="heavy.length === 0" class="soft py-2">No transaction in view changed many rows.</li>
    </ul>
  </div>
</template>
