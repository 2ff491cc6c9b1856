<script setup lang="ts" generic="T extends { id: string }">
import type { TableColumn } from '@nuxt/ui'

// A table whose rows can be sorted, in the address, and whose columns can be put away, which this browser keeps.
export interface DataColumn<T> {
  id: string
  /** What stands above it; a column without is never put away. */
  head: string
  /** Said by screen readers where nothing stands above it. */
  label?: string
  /** By what it is sorted; absent where it can't be. What has nothing of it comes last. */
  by?: (row: T) => string | number | null
  /** Classes of its head and its cells: its width first. */
  class?: string
  /** Classes of its cells alone. */
  cellClass?: string
  /** Whether it stays whatever is chosen. */
  always?: boolean
}
const { name, rows, columns, rowClass } = defineProps<{
  /** Under which the columns that are put away are kept. */
  name: string
  rows: T[]
  columns: DataColumn<T>[]
  rowClass: string
  /** How rows are sorted where nobody chose: said beside the first head. */
  order?: string
}>()
defineSlots<Record<`${string}-cell`, (given: { row: T }) => unknown> & Record<`head-${string}`, () => unknown>>()

const { putAway } = storeToRefs(useSettings())
const away = computed(() => new Set(putAway.value[name] ?? []))
const visibility = computed(() => Object.fromEntries([...away.value].map((id) => [id, false])))
function put(id: string, isShown: boolean) {
  const others = [...away.value].filter((column) => column !== id)
  putAway.value = { ...putAway.value, [name]: isShown ? others : [...others, id] }
}
const menu = computed(() =>
  columns
    .filter(({ head, always }) => head && !always)
    .map(({ id, head }) => ({
      label: head,
      type: 'checkbox' as const,
      checked: !away.value.has(id),
      onUpdateChecked: (isShown: boolean) => put(id, isShown),
      onSelect: (event: Event) => event.preventDefault(),
    })),
)

const route = useRoute()
const setQuery = useQuery()
const sorting = computed(() => {
  const [, sign, id] = /^(-?)(.+)$/.exec(String(route.query.sort ?? '')) ?? []
  return columns.some((column) => column.id === id && column.by) ? [{ id: id!, desc: sign === '-' }] : []
})
const stateOf = (id: string) => sorting.value.find((column) => column.id === id)
/** From the smallest, from the largest, and as it was. */
function sort(id: string) {
  const state = stateOf(id)
  void setQuery({ sort: !state ? id : state.desc ? undefined : `-${id}` })
}
const tableColumns = computed(() =>
  columns.map((column): TableColumn<T> => ({
    id: column.id,
    header: column.head,
    accessorFn: (row) => column.by?.(row) ?? undefined,
    enableSorting: column.by !== undefined,
    sortUndefined: 'last',
    sortingFn: 'basic',
    meta: { class: { th: column.class, td: [column.class, column.cellClass].filter(Boolean).join(' ') } },
  })),
)
const UI = {
  root: 'static overflow-visible',
  base: 'table-fixed overflow-visible text-[13px]',
  thead: 'static border-b border-[var(--line)]',
  th: 'h-[30px] p-0 text-[12px] font-normal text-[var(--soft)] [&:has([role=checkbox])]:pe-0',
  td: 'p-0 text-[13px] text-[var(--ink)] whitespace-normal',
  tbody: 'divide-y-0',
  separator: 'hidden',
}
</script>

<template>
  <div class="relative">
    <UTable
      :data="rows"
      :columns="tableColumns"
      :sorting="sorting"
      :column-visibility="visibility"
      :get-row-id="(row: T) => row.id"
      :meta="{ class: { tr: rowClass } }"
      :ui="UI"
    >
      <template v-for="column in columns" :key="column.id" #[`${column.id}-header`]>
        <slot :name="`head-${column.id}`">
          <span v-if="column.label" class="sr-only">{{ column.label }}</span>
          <button
            v-else-if="column.by"
            type="button"
            class="-mx-1 rounded-[3px] px-1 hover:text-[var(--ink)]"
            :class="{ 'text-[var(--ink)]': stateOf(column.id) }"
            :title="`Sort by ${column.head.toLowerCase()}`"
            @click="sort(column.id)"
          >
            {{ column.head }}<span v-if="stateOf(column.id)" aria-hidden="true">{{ stateOf(column.id)!.desc ? ' ↓' : ' ↑' }}</span
            ><span v-else-if="order && sorting.length === 0 && column.always">, {{ order }}</span>
          </button>
          <template v-else>{{ column.head }}</template>
        </slot>
      </template>
      <template v-for="column in columns" :key="column.id" #[`${column.id}-cell`]="{ row }">
        <slot :name="`${column.id}-cell`" :row="row.original" />
      </template>
    </UTable>
    <UDropdownMenu :items="menu" :content="{ align: 'end' }">
      <UButton
        variant="ghost"
        size="xs"
        icon="i-lucide-columns-3"
        class="soft absolute top-[3px] right-0"
        aria-label="Choose columns"
        title="Choose columns"
      />
    </UDropdownMenu>
  </div>
</template>
