<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { rowKey } from '~~/core/compare/rows'
import type { TableComparison } from '~~/server/views'

// Rows then at the left, now at the right, and the key between them with a thread to each side.
const { comparison, at } = defineProps<{ comparison: TableComparison; at: string | null }>()
const bench = useWorkbench()

interface Shown {
  mark: 'same' | 'gone' | 'changed' | 'new'
  key: string
  before: (string | null)[] | null
  now: (string | null)[] | null
}
const keyAt = computed(() => (comparison.key ?? []).map((column) => comparison.columns.indexOf(column)))
const columns = computed(() => comparison.columns.map((name, i) => ({ name, i })).filter(({ i }) => !keyAt.value.includes(i)))
const rows = computed((): Shown[] => {
  const differing = comparison.rows?.rows ?? []
  if (differing.length > 0) return differing
  return comparison.sample.map((fields) => ({
    mark: 'same',
    key: keyAt.value.map((i) => fields[i]).join(', '),
    before: fields,
    now: fields,
  }))
})
const scroller = useTemplateRef<HTMLElement>('scroller')
const virtual = useVirtualizer(
  computed(() => ({ count: rows.value.length, getScrollElement: () => scroller.value, estimateSize: () => 27, overscan: 10 })),
)

/** Runs of gone rows, to say so once over the empty side. */
const runs = computed(() => {
  const starts = new Map<number, number>()
  for (let i = 0; i < rows.value.length;) {
    let end = i
    while (rows.value[end]?.mark === 'gone') end++
    // A list that is cut ends among rows of which there are more.
    const cut = end === rows.value.length && total.value > end
    if (end > i)
      starts.set(i, cut ? (comparison.rows?.gone ?? 0) - rows.value.slice(0, i).filter(({ mark }) => mark === 'gone').length : end - i)
    i = Math.max(end, i + 1)
  }
  return starts
})
const SIDE = 3
const shownColumns = computed(() => columns.value.slice(0, SIDE + 1))
const differs = (row: Shown, i: number) => row.mark === 'changed' && row.before![i] !== row.now![i]
/** In a changed row, the columns that changed come first, so that they are in view. */
function cells(row: Shown) {
  if (row.mark !== 'changed') return shownColumns.value
  const changed = columns.value.filter(({ i }) => differs(row, i))
  return [
    ...shownColumns.value
      .filter(({ i }) => !changed.some((column) => column.i === i))
      .slice(0, Math.max(0, shownColumns.value.length - changed.length)),
    ...changed,
  ]
    .slice(-shownColumns.value.length)
    .sort((a, b) => a.i - b.i)
}
const grid = computed(() => {
  const side = `repeat(${Math.max(1, shownColumns.value.length)}, minmax(0, 1fr))`
  return { gridTemplateColumns: `${pickable.value ? '20px ' : ''}${side} 28px minmax(70px, max-content) 28px ${side}` }
})
// Single rows can be picked by their key, while they go to where they came from.
const pickable = computed(() => comparison.key !== null && bench.choices.mode !== 'beside' && bench.choices.what !== 'structure')
const picked = computed(() => bench.choices.rows[comparison.path]?.keys ?? [])
const pickedKeys = computed(() => new Set(picked.value.map(rowKey)))
const keysOf = (row: Shown) => keyAt.value.map((i) => row.before![i] ?? '')
const isPicked = (row: Shown) => pickedKeys.value.has(rowKey(keysOf(row)))
function pick(keys: string[][]) {
  const wanted = new Set(keys.map(rowKey))
  const changed = rows.value.filter((row) => row.mark === 'changed' && wanted.has(rowKey(keysOf(row))))
  const before = bench.choices.rows[comparison.path]
  const columnsOf = (row: Shown) => columns.value.filter(({ i }) => differs(row, i)).map(({ name }) => name)
  const overwrite = changed.length === 0 ? null : (before?.overwrite ?? [...new Set(changed.flatMap(columnsOf))])
  bench.pickRows(comparison.path, { keys, overwrite })
}
const withShift = ref(false)
/** The row that was ticked last; with Shift, all up to the next one are ticked or not as it was. */
let last: { at: number; on: boolean } | null = null
function toggle(at: number, shift: boolean) {
  const on = shift && last ? last.on : !isPicked(rows.value[at]!)
  const [from, to] = shift && last ? [Math.min(last.at, at), Math.max(last.at, at)] : [at, at]
  const shown = rows.value
    .slice(from, to + 1)
    .filter(canPick)
    .map(keysOf)
  const without = new Set(shown.map(rowKey))
  last = { at, on }
  pick([...picked.value.filter((key) => !without.has(rowKey(key))), ...(on ? shown : [])])
}
const canPick = (row: Shown) => row.mark === 'gone' || row.mark === 'changed'
watch(rows, () => (last = null))
const listed = computed(() => rows.value.filter(canPick))
const allPicked = computed(() => (picked.value.length === 0 ? false : listed.value.every(isPicked) ? true : ('indeterminate' as const)))
const counts = computed(
  () =>
    comparison.rows && [
      {
        mark: 'gone' as const,
        text: `${countInWords(comparison.rows.gone)} gone`,
        color: comparison.rows.gone > 0 ? 'var(--error)' : 'var(--soft)',
        strong: comparison.rows.gone > 0,
      },
      {
        mark: 'changed' as const,
        text: `${countInWords(comparison.rows.changed)} changed`,
        color: comparison.rows.changed > 0 ? 'var(--warning-text)' : 'var(--soft)',
        strong: comparison.rows.changed > 0,
      },
      {
        mark: 'new' as const,
        text: `${countInWords(comparison.rows.fresh)} new`,
        color: comparison.rows.fresh > 0 ? 'var(--ink)' : 'var(--soft)',
        strong: false,
      },
      { mark: 'same' as const, text: `${countInWords(comparison.rows.same)} the same`, color: 'var(--soft)', strong: false },
    ],
)
const byColumn = computed(() =>
  Object.entries(comparison.rows?.byColumn ?? {}).map(([i, count]) => ({ name: comparison.columns[Number(i)] ?? '', count })),
)
const total = computed(() => (comparison.rows ? comparison.rows.gone + comparison.rows.changed + comparison.rows.fresh : 0))
</script>

<template>
  <div class="flex min-h-0 flex-1 flex-col text-[13px]">
    <p v-if="comparison.tooMuch" class="m-4">
      {{ comparison.tooMuch }} Then it held {{ countInWords(comparison.before.rows) }} rows<template v-if="comparison.now"
        >, and now about {{ countInWords(comparison.now.rows) }}</template
      >.
    </p>
    <template v-else>
      <div
        class="flex h-8 shrink-0 items-center gap-5 border-b border-[var(--line)] px-4 whitespace-nowrap max-[1150px]:gap-4"
        aria-live="polite"
      >
        <span
          v-for="part in counts"
          :key="part.mark"
          class="flex items-center gap-2"
          :data-count="part.mark"
          :style="{ color: part.color }"
          :class="{ 'font-semibold': part.strong }"
          ><RowThread :mark="part.mark" class="max-[1150px]:hidden" />{{ part.text }}</span
        >
        <span v-if="!comparison.now" class="error ml-auto font-semibold">{{
          comparison.against ? 'the table is not in the other point' : 'the table is not there now'
        }}</span>
      </div>
      <RowPicks
        v-if="pickable && picked.length > 0"
        :comparison="comparison"
        :changed="rows.some((row) => row.mark === 'changed' && isPicked(row))"
        @none="pick([])"
        @all="pick(listed.map(keysOf))"
      />
      <p
        v-else-if="pickable && byColumn.length > 0"
        class="soft flex h-7 shrink-0 items-center gap-3 border-b border-[var(--line)] px-4 text-[12px]"
      >
        <span>changed in</span
        ><span v-for="{ name, count } in byColumn" :key="name"
          ><span class="mono warning">{{ name }}</span> {{ countInWords(count) }}</span
        >
      </p>
      <div class="grid shrink-0 items-end gap-x-2.5 border-b border-[var(--line)] px-4 pt-1.5 pb-1 text-[12px]" :style="grid">
        <span v-if="pickable" class="grid place-items-center pb-0.5">
          <UCheckbox
            v-if="listed.length > 0"
            :model-value="allPicked"
            :aria-label="`Pick all ${countInWords(listed.length)} that are listed`"
            data-pick-all
            @update:model-value="pick(allPicked === true ? [] : listed.map(keysOf))"
          />
        </span>
        <div class="pb-0.5 text-[13px]" :style="{ gridColumn: `span ${shownColumns.length || 1}` }">
          <b class="font-semibold">Then</b> <span v-if="at">{{ whenOf(at) }}</span>
        </div>
        <span /><span /><span />
        <div class="pb-0.5 text-[13px]" :style="{ gridColumn: `span ${shownColumns.length || 1}` }">
          <b class="font-semibold">{{ comparison.against ? 'The other point' : 'Now' }}</b>
          <span v-if="comparison.against">{{ whenOf(comparison.against.at) }}</span>
        </div>
        <span v-if="pickable" />
        <span v-for="column in shownColumns" :key="column.i" class="soft cut">{{ column.name }}</span><span
          v-if="shownColumns.length === 0"
        />
        <span /><span class="soft text-center">{{ comparison.key?.join(', ') ?? 'no key' }}</span
        ><span />
        <span v-for="column in shownColumns" :key="column.i" class="soft cut">{{ column.name }}</span>
      </div>
      <div
        ref="scroller"
        class="min-h-0 flex-1 overflow-auto focus-visible:outline-offset-[-2px]"
        tabindex="0"
        role="region"
        aria-label="Rows then and now"
      >
        <div class="relative" :style="{ height: `${virtual.getTotalSize()}px` }">
          <div
            v-for="item in virtual.getVirtualItems()"
            :key="item.index"
            data-compared
            class="absolute inset-x-0 grid h-[27px] items-center gap-x-2.5 border-b border-[var(--line)] px-4"
            :style="{ ...grid, transform: `translateY(${item.start}px)` }"
          >
            <span v-if="pickable" class="grid place-items-center">
              <UCheckbox
                v-if="canPick(rows[item.index]!)"
                :model-value="isPicked(rows[item.index]!)"
                :aria-label="`Pick ${rows[item.index]!.key}`"
                title="With Shift: all from the one that was ticked before"
                @click.capture="withShift = $event.shiftKey"
                @update:model-value="toggle(item.index, withShift)"
              />
            </span>
            <span
              v-for="column in cells(rows[item.index]!)"
              :key="`t${column.i}`"
              class="cut"
              :class="[differs(rows[item.index]!, column.i) ? 'font-semibold' : '', rows[item.index]!.mark === 'same' ? 'soft' : '']"
              :title="`${column.name}: ${rows[item.index]!.before?.[column.i] ?? 'null'}`"
            >
              <template v-if="rows[item.index]!.before">{{ rows[item.index]!.before![column.i] ?? '∅' }}</template>
            </span>
            <span v-if="shownColumns.length === 0" />
            <RowThread :mark="rows[item.index]!.mark" side="before" />
            <span
              class="mono cut text-center text-[12px]"
              :class="{ error: rows[item.index]!.mark === 'gone' }"
              :title="rows[item.index]!.key"
              >{{ comparison.key ? rows[item.index]!.key : '·' }}</span
            >
            <RowThread :mark="rows[item.index]!.mark" side="now" />
            <template v-if="rows[item.index]!.now">
              <span
                v-for="column in cells(rows[item.index]!)"
                :key="`n${column.i}`"
                class="cut"
                :class="[
                  differs(rows[item.index]!, column.i) ? 'error font-semibold' : '',
                  rows[item.index]!.mark === 'same' ? 'soft' : '',
                ]"
                :title="`${column.name}: ${rows[item.index]!.now?.[column.i] ?? 'null'}`"
              >
                <template v-if="differs(rows[item.index]!, column.i)"
                  ><span class="soft text-[11px] font-normal">{{ column.name }} </span></template
                >{{ rows[item.index]!.now![column.i] ?? '∅' }}
              </span>
            </template>
            <span v-else class="relative -ml-2.5 h-full self-stretch" :style="{ gridColumn: `span ${shownColumns.length || 1}` }">
              <svg class="absolute inset-y-0 left-0 h-full w-[9px]" preserveAspectRatio="none" aria-hidden="true">
                <rect width="9" height="100%" fill="url(#hatch)" />
              </svg>
              <span v-if="runs.has(item.index)" class="error absolute top-1 left-5 font-semibold whitespace-nowrap"
                >{{ plural(runs.get(item.index)!, 'row') }} gone</span
              >
            </span>
          </div>
        </div>
        <p v-if="total > rows.length" class="soft px-4 py-2">
          The first {{ countInWords(rows.length) }} of {{ countInWords(total) }} differences, by key.
        </p>
        <p v-if="comparison.rows && total === 0" class="soft px-4 py-2">
          Every row is the same then and now<template v-if="comparison.sample.length > 0">
            (the first {{ comparison.sample.length }} are shown)</template
          >.
        </p>
      </div>
    </template>
  </div>
</template>
