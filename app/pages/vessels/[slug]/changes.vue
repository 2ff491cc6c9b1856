<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { refAtPosition, refAtTime } from '~~/core/chain/moment-ref'
import { loggedPart } from '~~/core/selection/rules'
import type { FoundChange, LogFound, VesselView } from '~~/server/views'

// The log, change by change: by table, what was done, a value, a time, a transaction.
const { vessel } = defineProps<{ vessel: VesselView }>()
const route = useRoute()
const setQuery = useQuery()
const { data: tables } = useLoad<{ name: string; columns: string[]; key: string[] }[]>(() => `/api/vessels/${vessel.slug}/log-tables`)
const text = (name: string) => String(route.query[name] ?? '')
const form = reactive({
  table: text('table'),
  column: text('column'),
  value: text('value'),
  xid: text('xid'),
  from: text('from'),
  to: text('to'),
})
const OPS = [
  ['insert', 'inserted'],
  ['update', 'updated'],
  ['delete', 'deleted'],
  ['empty', 'emptied'],
] as const
const ops = ref(new Set(text('ops').split(',').filter(Boolean)))
const columns = computed(() => tables.value?.find(({ name }) => name === form.table)?.columns ?? [])
const ANY = '(any)'

const changes = shallowRef<FoundChange[]>([])
const next = shallowRef<LogFound['next']>(null)
const error = shallowRef<ErrorRecord | null>(null)
const pending = ref(true)
/** How the limits were understood when the search began. */
const limits = shallowRef<Record<'from' | 'to', ReadTime | null>>({ from: null, to: null })
const unreadable = computed(() => limits.value.from?.trouble ?? limits.value.to?.trouble ?? null)
const readLimit = (name: 'from' | 'to') => (form[name].trim() ? readTime(form[name]) : null)
const understood = computed(() =>
  (['from', 'to'] as const).flatMap((name) => (limits.value[name]?.at ? [`${name} ${fullOf(limits.value[name]!.at!)}`] : [])).join(' '),
)
const begin = newestOf()
async function look(older = false) {
  const isNewest = begin()
  if (!older) limits.value = { from: readLimit('from'), to: readLimit('to') }
  // Without the limit that was meant, it would be another search.
  if (unreadable.value) {
    changes.value = []
    next.value = null
    pending.value = false
    return
  }
  const query = new URLSearchParams()
  for (const name of ['table', 'column', 'value', 'xid'] as const) if (form[name]) query.set(name, form[name])
  if (form.column && form.value === '') query.set('value', '')
  if (!form.value) query.delete('column')
  if (ops.value.size > 0) query.set('ops', [...ops.value].join(','))
  for (const name of ['from', 'to'] as const) {
    const at = limits.value[name]?.at
    if (at) query.set(name, String(at.getTime() * 1000 + (name === 'to' ? 999_999 : 0)))
  }
  if (older && next.value) query.set('after', `${next.value.segment}.${Math.round(next.value.at)}.${next.value.chunk}`)
  pending.value = true
  try {
    const found = await $fetch<LogFound>(`/api/vessels/${vessel.slug}/log?${query}`)
    if (!isNewest()) return
    changes.value = older ? [...changes.value, ...found.changes] : found.changes
    next.value = found.next
    error.value = null
    // Nothing yet, and more of the log to look through.
    if (found.changes.length === 0 && found.next) void look(true)
  } catch (thrown) {
    if (isNewest()) error.value = errorOf(thrown)
  } finally {
    if (isNewest()) pending.value = false
  }
}
function search() {
  const query = Object.fromEntries(Object.entries(form).map(([name, value]) => [name, value || undefined]))
  void setQuery({ ...query, ops: [...ops.value].join(',') || undefined }, 'only')
  void look()
}
const hasNone = computed(() => loggedPart(vessel.definition.rules) === 'none')
onMounted(() => hasNone.value || look())
function toggle(op: string) {
  const set = new Set(ops.value)
  if (!set.delete(op)) set.add(op)
  ops.value = set
  search()
}
const WORD: Record<FoundChange['op'], { word: string; color: string }> = {
  insert: { word: 'inserted', color: 'var(--glaze)' },
  update: { word: 'updated', color: 'var(--ink)' },
  delete: { word: 'deleted', color: 'var(--error)' },
  empty: { word: 'emptied', color: 'var(--error)' },
}
const atOf = ({ at }: FoundChange) => new Date(Math.floor(at / 1000))
/** What stands in the list: each change by its index, and before those of a transaction a line of it. */
const lines = computed(() =>
  changes.value.flatMap((change, index): { key: string; change: FoundChange; index: number | null }[] => {
    const isFirst = index === 0 || changes.value[index - 1]!.position !== change.position
    return [...(isFirst ? [{ key: `before ${index}`, change, index: null }] : []), { key: String(index), change, index }]
  }),
)
/** What a change says of its row, beside the key that stands before it. */
function said(change: FoundChange): { column: string; value: string }[] {
  const row = change.row ?? change.old ?? []
  const key = tables.value?.find(({ name }) => name === change.table)?.key ?? []
  return change.columns
    .map((column, i) => ({ column, value: row[i] }))
    .filter(({ column, value }) => value !== undefined && !key.includes(column) && (change.row !== null || value !== null))
    .map(({ column, value }) => ({ column, value: value === null ? 'null' : String(value) }))
    .slice(0, 9)
}
/** The whole life of one row: everything in the log with its key. */
function life(change: FoundChange) {
  const found = tables.value?.find(({ name }) => name === change.table)
  const column = found?.key[0] ?? change.columns[0]!
  Object.assign(form, { table: change.table, column, value: String(change.key[0] ?? ''), xid: '', from: '', to: '' })
  ops.value = new Set()
  search()
}
const lifeline = (change: FoundChange, side: 'before' | 'after') => ({
  path: `/vessels/${vessel.slug}`,
  query: {
    at: new Date(Math.floor(change.at / 1000) + (side === 'before' ? -1 : 1)).toISOString(),
    // Everything that was committed until then, this one too, is just after it.
    exact: side === 'before' ? refAtPosition(vessel.slug, change.source, change.position, change.at) : refAtTime(vessel.slug, change.at),
    side,
    from: new Date(change.at / 1000 - 1_200_000).toISOString(),
    to: new Date(change.at / 1000 + 1_200_000).toISOString(),
  },
})
</script>

<template>
  <p v-if="hasNone" class="sheet soft flex-1 px-6 py-5 text-[13px]">
    Namespaces have no log that could be searched. What changed between two points of them is seen in
    <NuxtLink :to="`/vessels/${vessel.slug}/contents`" class="lnk">Contents</NuxtLink>, then and now.
  </p>
  <div v-else class="grid flex-1 grid-rows-[auto_minmax(0,1fr)]">
    <form class="flex flex-wrap items-end gap-x-3 gap-y-2 border-b border-[var(--line)] px-6 py-3 text-[13px]" @submit.prevent="search">
      <label class="grid gap-1"
        ><span class="soft s12">Table</span
        ><USelect
          :model-value="form.table || ANY"
          :items="[ANY, ...(tables ?? []).map(({ name }) => name)]"
          class="h-8 w-44"
          aria-label="Table"
          @update:model-value="(name: string) => ((form.table = name === ANY ? '' : name), (form.column = ''), search())"
      /></label>
      <fieldset class="grid gap-1">
        <legend class="soft s12 mb-1">What was done</legend>
        <div class="flex">
          <button
            v-for="[op, word] in OPS"
            :key="op"
            type="button"
            class="h-8 border border-l-0 border-[var(--edge)] px-2.5 first:rounded-l-[4px] first:border-l last:rounded-r-[4px]"
            :class="ops.has(op) ? 'bg-[var(--ink)] font-semibold text-[var(--ground)]' : ''"
            :aria-pressed="ops.has(op)"
            @click="toggle(op)"
          >
            {{ word }}
          </button>
        </div>
      </fieldset>
      <label class="grid gap-1"
        ><span class="soft s12">Column</span
        ><USelect
          v-model="form.column"
          :items="columns"
          :disabled="columns.length === 0"
          placeholder="any"
          class="h-8 w-36"
          aria-label="Column"
      /></label>
      <label class="grid gap-1"
        ><span class="soft s12">Value</span
        ><UInput v-model="form.value" name="value" class="w-28" :disabled="!form.column" :maxlength="200"
      /></label>
      <label class="grid gap-1"
        ><span class="soft s12">From</span
        ><UInput
          v-model="form.from"
          name="from"
          class="w-32"
          placeholder="yesterday 9:30"
          :aria-invalid="Boolean(limits.from?.trouble)"
          :color="limits.from?.trouble ? 'error' : undefined"
      /></label>
      <label class="grid gap-1"
        ><span class="soft s12">To</span
        ><UInput
          v-model="form.to"
          name="to"
          class="w-24"
          placeholder="now"
          :aria-invalid="Boolean(limits.to?.trouble)"
          :color="limits.to?.trouble ? 'error' : undefined"
      /></label>
      <label class="grid gap-1"
        ><span class="soft s12">Transaction</span><UInput v-model="form.xid" name="xid" class="mono w-20" :maxlength="20"
      /></label>
      <UButton type="submit" :loading="pending">Search the log</UButton>
      <p v-if="understood && !unreadable" class="soft s12 w-full" data-understood>{{ understood }}</p>
    </form>
    <div class="sheet min-h-0 overflow-auto px-6 pb-8 text-[13px]">
      <p v-if="unreadable" class="error max-w-xl py-5" role="alert" data-unreadable>
        Nothing was searched: the limit “{{ limits.from?.trouble ? form.from : form.to }}” can’t be read. {{ unreadable }}
      </p>
      <ErrorNote v-else-if="error" :error="error" class="my-4" />
      <div v-else-if="pending && changes.length === 0" class="grid gap-2 py-4"><USkeleton v-for="i in 10" :key="i" class="h-5" /></div>
      <p v-else-if="changes.length === 0" class="soft max-w-xl py-5">
        <template v-if="(tables ?? []).length === 0"
          >The log of this vessel is not followed, so there is nothing to search.
          <NuxtLink :to="`/vessels/${vessel.slug}/definition#when`" class="lnk">Follow it</NuxtLink> to have every change from then
          on.</template
        ><template v-else>No change in the log matches this search.</template>
      </p>
      <table v-else class="w-full">
        <thead class="sr-only">
          <tr>
            <th>Change</th>
            <th>Table</th>
            <th>Row, and what it held</th>
          </tr>
        </thead>
        <LongList
          v-slot="{ item: { change, index }, row }"
          :items="lines"
          :key-of="({ key }) => key"
          :row-height="27"
          as="tbody"
          :columns="3"
        >
          <tr v-if="index === null" v-bind="row" class="h-9 border-t border-[var(--line)] align-bottom">
            <td colspan="3" class="pb-1">
              <b class="font-semibold">{{ dayOf(atOf(change)) }} {{ secondsOf(atOf(change)) }}</b>
              <span class="soft"> transaction {{ change.xid }}, </span><span class="mono soft text-[12px]">{{ change.position }}</span>
              <NuxtLink :to="lifeline(change, 'before')" class="lnk ml-3">Just before this</NuxtLink>
              <NuxtLink :to="lifeline(change, 'after')" class="lnk ml-3">Just after</NuxtLink>
            </td>
          </tr>
          <tr v-else v-bind="row" class="h-[27px]" data-change>
            <td class="w-[76px] font-medium" :style="{ color: WORD[change.op].color }">{{ WORD[change.op].word }}</td>
            <td class="mono w-[200px] text-[12px]">{{ change.table }}</td>
            <td class="mono max-w-0 truncate text-[12px]">
              <button
                type="button"
                class="mr-3 underline decoration-[var(--line-strong)] underline-offset-2 hover:decoration-[var(--ink)]"
                title="Everything that happened to this row"
                @click="life(change)"
              >
                {{ change.key.join(', ') || 'the whole table' }}
              </button>
              <span v-for="value in said(change)" :key="value.column" class="mr-3"
                ><span class="soft mr-1.5">{{ value.column }}</span
                >{{ value.value }}</span
              >
            </td>
          </tr>
        </LongList>
      </table>
      <UButton v-if="next && changes.length > 0" size="sm" class="mt-4" :loading="pending" @click="look(true)">Older changes</UButton>
    </div>
  </div>
</template>
