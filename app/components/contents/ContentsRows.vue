<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { rowKey } from '~~/core/compare/rows'
import { orderingOf, readFilter } from '~~/core/look/filter'
import type { LookedRow } from '~~/server/views'
import { useRowWindow, WINDOW, type RowOrder } from '~/composables/useRowWindow'

const { point, path } = defineProps<{ point: string; path: string; partitioned: boolean }>()
/** Keys of the rows that are ticked. */
const ticked = defineModel<string[][]>('ticked', { required: true })
const emit = defineEmits<{ open: [row: LookedRow] }>()
const route = useRoute()
const setQuery = useQuery()
const rows = useRowWindow(
  computed(() => point),
  computed(() => path),
  { order: isOrder(route.query.order) ? route.query.order : 'stored', filter: readFilter(String(route.query.filter ?? '')) },
)
// The address keeps the order and the conditions, so that a link shows the same rows.
watch([rows.order, rows.filter], ([order, filter]) =>
  setQuery({ order: order === 'stored' ? undefined : order, filter: filter.length > 0 ? JSON.stringify(filter) : undefined }),
)
function isOrder(value: unknown): value is RowOrder {
  return value === 'key' || value === 'key-descending'
}
const scroller = useTemplateRef<HTMLElement>('scroller')
const virtual = useVirtualizer(
  computed(() => ({ count: rows.count.value, getScrollElement: () => scroller.value, estimateSize: () => 27, overscan: 14 })),
)
const items = computed(() => virtual.value.getVirtualItems())
watchDebounced(items, (seen) => seen.length > 0 && rows.see(seen[0]!.index, seen.at(-1)!.index), { debounce: 60 })
watch([rows.base, rows.order, () => path], () => scroller.value?.scrollTo({ top: 0 }))

const head = computed(() => rows.head.value)
const key = computed(() => head.value?.key ?? null)
const FIRST_COLUMNS = 40
const allColumns = ref(false)
const columns = computed(() => {
  const all = (head.value?.columns ?? []).map((column, i) => ({ ...column, i, ordering: orderingOf(column.base ?? column.type) }))
  const byKey = [...all].sort((a, b) => Number(key.value?.includes(b.name) ?? false) - Number(key.value?.includes(a.name) ?? false))
  return allColumns.value ? byKey : byKey.slice(0, FIRST_COLUMNS)
})
const isRight = (ordering: string) => ordering === 'number'
const WIDTH: Record<string, number> = { number: 108, time: 196, boolean: 76, uuid: 290, text: 180 }
const grid = computed(() => ({
  gridTemplateColumns: `${key.value ? '22px ' : ''}${columns.value.map(({ ordering }) => `${WIDTH[ordering]}px`).join(' ')}`,
}))

const isKey = (name: string) => key.value?.[0] === name && head.value?.sortable
const NEXT: Record<RowOrder, RowOrder> = { stored: 'key', key: 'key-descending', 'key-descending': 'stored' }
const keyOf = (row: LookedRow) => key.value!.map((column) => row.fields[head.value!.columns.findIndex(({ name }) => name === column)] ?? '')
const tickedKeys = computed(() => new Set(ticked.value.map(rowKey)))
const isTicked = (row: LookedRow) => tickedKeys.value.has(rowKey(keyOf(row)))
function tick(row: LookedRow) {
  const key = keyOf(row)
  const without = ticked.value.filter((row) => rowKey(row) !== rowKey(key))
  ticked.value = without.length === ticked.value.length ? [...ticked.value, key] : without
}
function show(index: number) {
  const row = rows.rowAt(index)
  if (row) emit('open', row)
}
const goTo = ref('')
function go() {
  const at = Number(goTo.value.replace(/[^\d]/g, ''))
  const total = head.value?.total ?? 0
  if (!at || total === 0) return
  const index = Math.min(total, at) - 1
  if (index >= rows.base.value && index < rows.base.value + WINDOW) virtual.value.scrollToIndex(index - rows.base.value, { align: 'start' })
  else rows.base.value = Math.max(0, Math.min(total - 1, index))
}
const SORTED = { stored: 'none', key: 'ascending', 'key-descending': 'descending' } as const
const shownLast = computed(() => rows.base.value + rows.count.value)
defineExpose({ filter: rows.filter })
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col text-[13px]">
    <RowFilter v-if="head" v-model="rows.filter.value" :columns="head.columns" />
    <ErrorNote v-if="rows.error.value" :error="rows.error.value" class="m-4" />
    <div v-else-if="!head" class="grid gap-2 p-4"><USkeleton v-for="i in 12" :key="i" class="h-5" /></div>
    <template v-else>
      <div ref="scroller" class="min-h-0 flex-1 overflow-auto">
        <div class="min-w-full" :style="{ width: 'max-content' }" role="table" aria-label="Rows" :aria-rowcount="head.total + 1">
          <div
            class="sticky top-0 z-10 grid gap-x-4 border-b border-[var(--line-strong)] bg-[var(--sheet)] px-4 py-1.5"
            :style="grid"
            role="row"
          >
            <span v-if="key" role="columnheader"><span class="sr-only">Picked</span></span>
            <div
              v-for="column in columns"
              :key="column.i"
              role="columnheader"
              :aria-sort="isKey(column.name) ? SORTED[rows.order.value] : undefined"
              class="min-w-0 leading-[16px]"
              :class="{ 'text-right': isRight(column.ordering) }"
            >
              <button
                v-if="isKey(column.name)"
                class="mono font-semibold"
                :aria-label="`Sort by ${column.name}`"
                data-sort
                @click="rows.order.value = NEXT[rows.order.value]"
              >
                {{ column.name }}<span class="glaze pl-1">{{ { stored: '↕', key: '↑', 'key-descending': '↓' }[rows.order.value] }}</span>
              </button>
              <span v-else class="mono cut block" :class="{ 'font-semibold': key?.includes(column.name) }">{{ column.name }}</span>
              <span class="soft cut block text-[11px]" :title="column.type">{{ column.type }}</span>
            </div>
          </div>
          <div class="relative" role="rowgroup" :style="{ height: `${virtual.getTotalSize()}px` }">
            <div
              v-for="item in items"
              :key="item.index"
              role="row"
              :aria-rowindex="rows.base.value + item.index + 2"
              data-content-row
              data-row
              tabindex="0"
              class="absolute inset-x-0 grid h-[27px] cursor-pointer items-center gap-x-4 border-b border-[var(--line)] px-4 hover:bg-[var(--wash)] focus-visible:outline-offset-[-2px]"
              :style="{ ...grid, transform: `translateY(${item.start}px)` }"
              @click="show(item.index)"
              @keydown.enter.self="show(item.index)"
            >
              <template v-if="rows.rowAt(item.index)">
                <span v-if="key" role="cell" class="grid place-items-center" @click.stop>
                  <UCheckbox
                    :model-value="isTicked(rows.rowAt(item.index)!)"
                    :aria-label="`Pick ${keyOf(rows.rowAt(item.index)!).join(', ')}`"
                    @update:model-value="tick(rows.rowAt(item.index)!)"
                  />
                </span>
                <span
                  v-for="column in columns"
                  :key="column.i"
                  role="cell"
                  class="cut"
                  :class="[
                    isRight(column.ordering) ? 'text-right tabular-nums' : '',
                    rows.rowAt(item.index)!.fields[column.i] === null ? 'soft' : '',
                  ]"
                  >{{ rows.rowAt(item.index)!.fields[column.i] ?? '∅' }}</span
                >
              </template>
              <span v-else role="cell" class="soft">…</span>
            </div>
          </div>
        </div>
        <p v-if="rows.count.value === 0 && !rows.pending.value" class="soft px-4 py-3">
          {{
            rows.filter.value.length > 0
              ? 'No row matches the filter.'
              : partitioned
                ? 'It has no rows of its own; its partitions have them.'
                : 'It held no rows.'
          }}
        </p>
      </div>
      <div class="flex h-9 shrink-0 items-center gap-5 border-t border-[var(--line)] px-4" aria-live="polite">
        <span v-if="rows.filter.value.length > 0" data-found>
          <b class="font-semibold">{{ countInWords(rows.count.value) }}</b> found in {{ countInWords(rows.looked.value) }} of
          {{ countInWords(head.total) }} rows<template v-if="rows.next.value">,</template>
          <button v-if="rows.next.value" class="lnk ml-1.5" :disabled="rows.pending.value" @click="rows.more()">Look further</button>
        </span>
        <template v-else>
          <span
            ><b class="font-semibold">{{ plural(head.total, 'row') }}</b
            ><template v-if="head.total > WINDOW"
              >, {{ countInWords(rows.base.value + 1) }} to {{ countInWords(shownLast) }} at hand</template
            ></span
          >
          <label v-if="head.total > 50" class="soft flex items-center gap-2"
            >go to row
            <input
              v-model="goTo"
              name="go-to-row"
              inputmode="numeric"
              class="w-24 border-b border-[var(--edge)] bg-transparent text-[var(--ink)]"
              @keydown.enter="go"
          /></label>
        </template>
        <button v-if="head.columns.length > FIRST_COLUMNS" class="lnk" @click="allColumns = !allColumns">
          {{ allColumns ? `the first ${FIRST_COLUMNS} columns only` : `${head.columns.length - FIRST_COLUMNS} more columns` }}
        </button>
        <span class="soft ml-auto">{{ rows.order.value === 'stored' ? 'as they are stored' : `by ${key?.join(', ')}` }}</span>
      </div>
    </template>
  </div>
</template>
