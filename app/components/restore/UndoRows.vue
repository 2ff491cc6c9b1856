<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { fieldsOf } from '~~/core/compare/rows'
import { undone } from '~~/core/changes/undo'
import type { UndoTable } from '~~/server/views'

// Every row of the transaction, however many there are: narrowed, looked at, and decided on one by one or together.
const { tables } = defineProps<{ tables: UndoTable[]; conflicts: number; open: number }>()
const decisions = defineModel<UndoDecisions>({ required: true })
const filter = ref<UndoFilter>('all')
const typed = ref('')
const text = refDebounced(typed, 150)
const lines = computed(() => undoLines(tables, decisions.value, filter.value, text.value))
const listed = computed(() => lines.value.filter(({ row }) => row !== null).length)
const FILTER = [
  ['all', 'all rows'],
  ['touched', 'touched since'],
  ['open', 'not decided'],
] as const
const scroller = useTemplateRef<HTMLElement>('scroller')
const virtual = useVirtualizer(
  computed(() => ({
    count: lines.value.length,
    getScrollElement: () => scroller.value,
    estimateSize: (i: number) => (lines.value[i]?.row === null ? 46 : 29),
    overscan: 12,
  })),
)
const measured = (element: unknown) => element instanceof Element && virtual.value.measureElement(element)
watch([filter, text], () => scroller.value?.scrollTo({ top: 0 }))

const CHOICES = [
  ['undo', 'Undo'],
  ['leave', 'Leave'],
] as const
const decide = (some: UndoLine[], choice: 'undo' | 'leave') => (decisions.value = decidedAll(decisions.value, some, choice))
const ACT = { restore: 'restored', remove: 'removed', 'set back': 'set back', nothing: 'as it is' } as const
const OP: Record<UndoTableRow['later'][number]['op'], string> = {
  insert: 'inserted',
  update: 'updated',
  delete: 'deleted',
  empty: 'emptied',
}
const valueOf = (field: string | undefined) => (field === undefined ? '' : (fieldsOf(field)[0] ?? 'null'))
/** The columns that tell something: those that change, else the first ones. */
function told(table: UndoTable, row: UndoTableRow) {
  const target = undone(row)
  const wanted = row.act === 'set back' ? row.columns : table.columns.map((_, i) => i).filter((i) => !table.key.includes(table.columns[i]!))
  return wanted
    .slice(0, 6)
    .map((i) => ({ column: table.columns[i]!, from: row.now ? valueOf(row.now[i]) : null, to: target ? valueOf(target[i]) : null }))
}
const since = (row: UndoTableRow) =>
  row.later
    .slice(-3)
    .map(({ op, at, xid }) => `${OP[op]} ${whenOf(new Date(Math.floor(at / 1000)))} by transaction ${xid}`)
    .join(', ')
</script>

<template>
  <div class="flex flex-col text-[13px]">
    <div class="flex min-h-[46px] flex-wrap items-center gap-x-5 gap-y-2 px-6 py-2">
      <ChoiceBar v-if="conflicts > 0" v-model="filter" :choices="FILTER" label="Which rows" />
      <UInput
        v-model="typed"
        size="sm"
        icon="i-lucide-search"
        class="w-64"
        name="find"
        aria-label="Find rows"
        placeholder="a key or a value"
      />
      <span class="soft" role="status" data-listed>{{ plural(listed, 'row') }}{{ text || filter !== 'all' ? ' listed' : '' }}</span>
      <span v-if="listed > 0" class="ml-auto flex items-center gap-2.5">
        <span class="soft">All that are listed:</span>
        <UButton size="sm" data-undo-all @click="decide(lines, 'undo')">Undo them</UButton>
        <UButton size="sm" data-leave-all @click="decide(lines, 'leave')">Leave them as they are</UButton>
      </span>
    </div>
    <div
      ref="scroller"
      class="sheet min-h-0 flex-1 overflow-auto border-t border-[var(--line)] px-6"
      tabindex="0"
      aria-label="Rows of the transaction"
    >
      <p v-if="lines.length === 0" class="soft py-6">No row matches the filter.</p>
      <div v-else role="list" :style="{ height: `${virtual.getTotalSize()}px` }" class="relative">
        <div
          v-for="item in virtual.getVirtualItems()"
          :key="item.index"
          :ref="measured"
          role="listitem"
          class="absolute top-0 left-0 w-full"
          :data-index="item.index"
          :style="{ transform: `translateY(${item.start}px)` }"
        >
          <template v-for="{ table, row, shown } in [{ shown: 0, ...lines[item.index]! }]" :key="table.path">
            <h2 v-if="!row" class="flex items-baseline gap-3 border-b border-[var(--line-strong)] pt-4 pb-1.5">
              <span class="mono font-semibold">{{ table.schema }}.{{ table.name }}</span>
              <span class="soft"
                >{{ plural(shown, 'row') }}<template v-if="shown < table.rows.length"> of {{ countInWords(table.rows.length) }}</template
                >, by {{ table.key.join(', ') }}</span
              >
            </h2>
            <div v-else class="flex min-h-[28px] items-start gap-3 border-b border-[var(--line)] py-1" :data-act="row.act">
              <span class="mono w-[130px] shrink-0 text-[12px] leading-[20px] break-words">
                <template v-for="(value, i) in row.key" :key="i"
                  ><template v-if="i > 0"><span class="soft"> · </span></template>{{ value }}</template
                >
              </span>
              <span
                class="w-[104px] shrink-0 font-medium leading-[20px]"
                :class="isDone(decisions, table, row) ? (row.act === 'remove' ? 'error' : 'glaze') : 'soft'"
                >{{ isDone(decisions, table, row) ? ACT[row.act] : 'left as it is' }}</span
              >
              <div class="mono min-w-0 flex-1 text-[12px] leading-[20px]">
                <div class="truncate">
                  <span v-for="change in told(table, row)" :key="change.column" class="mr-4"
                    ><span class="soft mr-1.5">{{ change.column }}</span
                    ><span v-if="change.from !== null && change.to !== change.from" class="error line-through">{{ change.from }}</span>
                    <template v-if="change.to !== null"> {{ change.to }}</template></span
                  >
                </div>
                <div v-if="row.later.length > 0" class="soft font-sans">Since then: {{ since(row) }}</div>
              </div>
              <div v-if="row.act !== 'nothing'" class="flex shrink-0 items-start justify-end gap-3">
                <span v-if="row.conflict" class="warning max-w-[250px] text-right leading-[17px]">{{ row.conflict }}</span>
                <span v-if="row.conflict" class="flex gap-1.5">
                  <UButton
                    v-for="[choice, word] in CHOICES"
                    :key="choice"
                    size="xs"
                    :variant="choiceOf(decisions, table, row) === choice ? 'solid' : 'outline'"
                    :aria-pressed="choiceOf(decisions, table, row) === choice"
                    :aria-label="`${word} ${row.key.join(', ')} of ${table.name}`"
                    @click="decide([{ table, row }], choice)"
                    >{{ word }}</UButton
                  >
                </span>
                <button
                  v-else
                  type="button"
                  class="lnk soft text-[12px] leading-[20px]"
                  :aria-label="`${isDone(decisions, table, row) ? 'Leave' : 'Undo'} ${row.key.join(', ')} of ${table.name}`"
                  @click="decide([{ table, row }], isDone(decisions, table, row) ? 'leave' : 'undo')"
                >
                  {{ isDone(decisions, table, row) ? 'leave' : 'undo' }}
                </button>
              </div>
            </div>
          </template>
        </div>
      </div>
    </div>
  </div>
</template>
