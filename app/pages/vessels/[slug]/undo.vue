<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import { fieldsOf } from '~~/core/compare/rows'
import { isUndone, rowKey, undone, type UndoChoice } from '~~/core/changes/undo'
import type { UndoPlan, UndoTable, VesselView } from '~~/server/views'

// One transaction, row by row: what undoing it would do, what has touched the rows since, and the decisions.
const { vessel } = defineProps<{ vessel: VesselView }>()
useHead({ title: () => `Undo a transaction · ${vessel.name}` })
const route = useRoute()
const transaction = computed(() => ({
  member: String(route.query.member),
  position: String(route.query.position),
  end: String(route.query.end),
}))
const { data: plan, error } = useLoad<UndoPlan>(() => `/api/vessels/${vessel.slug}/undo?${new URLSearchParams(transaction.value)}`)
type Row = UndoTable['rows'][number]
const choices = reactive<Record<string, Record<string, UndoChoice>>>({})
const choiceOf = (table: UndoTable, row: Row) => choices[table.path]?.[rowKey(row.key)]
const isDone = (table: UndoTable, row: Row) => isUndone(row, choiceOf(table, row))
function decide(table: UndoTable, row: Row, choice: UndoChoice) {
  choices[table.path] = { ...choices[table.path], [rowKey(row.key)]: choice }
}
const tables = computed(() => plan.value?.tables ?? [])
const all = computed(() => tables.value.flatMap((table) => table.rows.map((row) => ({ table, row }))))
const willBe = computed(() => all.value.filter(({ table, row }) => isDone(table, row)))
const conflicts = computed(() => all.value.filter(({ row }) => row.conflict !== null))
const open = computed(() => conflicts.value.filter(({ table, row }) => choiceOf(table, row) === undefined))
const MOST = 60
const only = ref<'all' | 'conflicts'>('all')
const FILTER = [
  ['all', 'all rows'],
  ['conflicts', 'touched since'],
] as const
const shownOf = (table: UndoTable) => table.rows.filter(({ conflict }) => only.value === 'all' || conflict !== null).slice(0, MOST)
const ACT = { 'bring back': 'brought back', remove: 'removed', 'set back': 'set back', nothing: 'as it is' } as const
const valueOf = (field: string | undefined) => (field === undefined ? '' : (fieldsOf(field)[0] ?? 'null'))
/** The columns that tell something: those that change, else the first ones. */
function told(table: UndoTable, row: Row) {
  const target = undone(row)
  const wanted = row.act === 'set back' ? row.columns : table.columns.map((_, i) => i).filter((i) => !table.key.includes(table.columns[i]!))
  return wanted
    .slice(0, 6)
    .map((i) => ({ column: table.columns[i]!, from: row.now ? valueOf(row.now[i]) : null, to: target ? valueOf(target[i]) : null }))
}
const reason = ref('')
const failure = shallowRef<ErrorRecord | null>(null)
const sending = ref(false)
async function go() {
  sending.value = true
  failure.value = null
  try {
    const { id } = await post<{ id: string }>(`/api/vessels/${vessel.slug}/undo`, {
      transaction: transaction.value,
      choices,
      reason: reason.value,
    })
    await navigateTo(`/runs/${id}`)
  } catch (thrown) {
    failure.value = errorOf(thrown)
  } finally {
    sending.value = false
  }
}
const at = computed(() => (plan.value ? new Date(Math.floor(plan.value.at / 1000)) : null))
</script>

<template>
  <main class="flex h-[calc(100vh-52px)] flex-col">
    <div class="flex items-start justify-between gap-6 border-b border-[var(--line)] px-6 pt-[11px] pb-3">
      <div class="min-w-0">
        <PageSentence class="cut">
          <template v-if="plan && at"
            >Undo the transaction of {{ dayOf(at) }} {{ secondsOf(at)
            }}<template v-if="plan.by">, by {{ plan.by.application || plan.by.user }}</template
            >, and leave everything after it.</template
          ><template v-else>Undo one transaction</template>
        </PageSentence>
        <p v-if="plan" class="mt-1 text-[13px]">
          <b class="font-semibold">{{ plural(willBe.length, 'row') }}</b> in {{ plural(tables.length, 'table') }} will be changed, in one
          transaction. <template v-if="conflicts.length === 0">Nothing has touched them since.</template
          ><span v-else class="ochre"
            >{{ plural(conflicts.length, 'row') }} {{ conflicts.length === 1 ? 'has' : 'have' }} been touched since<template
              v-if="open.length > 0"
              >; those you do not decide on stay as they are</template
            >.</span
          >
        </p>
      </div>
      <NuxtLink :to="`/vessels/${vessel.slug}`" class="soft shrink-0 pt-1.5 text-[13px] hover:text-[var(--ink)]"
        >Back to the lifeline</NuxtLink
      >
    </div>
    <ErrorNote v-if="error" :error="error" class="m-6" />
    <div v-else-if="!plan" class="grid gap-2 p-6"><USkeleton v-for="i in 12" :key="i" class="h-5" /></div>
    <div v-else class="sheet min-h-0 flex-1 overflow-auto px-6 pb-8 text-[13px]">
      <div v-if="conflicts.length > 0" class="pt-3"><ChoiceBar v-model="only" :choices="FILTER" label="Which rows" /></div>
      <section v-for="table in tables" :key="table.path" class="pt-4">
        <h2 class="flex items-baseline gap-3 border-b border-[var(--line-strong)] pb-1.5">
          <span class="mono font-semibold">{{ table.schema }}.{{ table.name }}</span>
          <span class="soft">{{ plural(table.rows.length, 'row') }}, by {{ table.key.join(', ') }}</span>
        </h2>
        <table class="w-full">
          <tbody class="rule">
            <tr v-for="row in shownOf(table)" :key="row.key.join()" class="min-h-[27px] align-top" :data-act="row.act">
              <td class="mono w-[110px] py-1 text-[12px]">{{ row.key.join(', ') }}</td>
              <td class="w-[110px] py-1 font-medium" :class="isDone(table, row) ? (row.act === 'remove' ? 'iron' : 'glaze') : 'soft'">
                {{ isDone(table, row) ? ACT[row.act] : 'left as it is' }}
              </td>
              <td class="mono max-w-0 py-1 text-[12px]">
                <div class="truncate">
                  <span v-for="one in told(table, row)" :key="one.column" class="mr-4"
                    ><span class="soft mr-1.5">{{ one.column }}</span
                    ><span v-if="one.from !== null && one.to !== one.from" class="iron line-through">{{ one.from }}</span>
                    <template v-if="one.to !== null"> {{ one.to }}</template></span
                  >
                </div>
                <div v-if="row.later.length > 0" class="soft font-sans">
                  Since then:
                  {{
                    row.later
                      .slice(-3)
                      .map((one) =>
                        `${one.op}d ${whenOf(new Date(Math.floor(one.at / 1000)))} by transaction ${one.xid}`
                          .replace('insertd', 'inserted')
                          .replace('emptyd', 'emptied'),
                      )
                      .join(', ')
                  }}
                </div>
              </td>
              <td class="w-[330px] py-1 pl-4">
                <div v-if="row.conflict" class="flex items-center justify-end gap-3">
                  <span class="ochre leading-[16px]">{{ row.conflict }}</span>
                  <UButton
                    v-if="row.act !== 'nothing'"
                    size="xs"
                    :variant="choiceOf(table, row) === 'undo' ? 'solid' : 'outline'"
                    @click="decide(table, row, 'undo')"
                    >Undo</UButton
                  >
                  <UButton size="xs" :variant="choiceOf(table, row) === 'leave' ? 'solid' : 'outline'" @click="decide(table, row, 'leave')"
                    >Leave</UButton
                  >
                </div>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="table.rows.length > MOST" class="soft pt-2">and {{ countInWords(table.rows.length - MOST) }} more rows</p>
      </section>
    </div>
    <div v-if="plan" class="flex items-center gap-4 border-t border-[var(--line-strong)] bg-[var(--ground)] px-6 py-3 text-[13px]">
      <span
        ><b class="text-[15px] font-semibold">{{ countInWords(willBe.length) }}</b> {{ willBe.length === 1 ? 'row' : 'rows' }}, all of them
        or none</span
      >
      <ErrorNote v-if="failure" :error="failure" class="min-w-0 flex-1" />
      <UInput v-model="reason" name="reason" class="ml-auto w-80" placeholder="Why? It is kept with the receipt." :maxlength="500" />
      <UButton color="error" variant="solid" data-undo :disabled="willBe.length === 0 || !reason.trim()" :loading="sending" @click="go"
        >Undo {{ plural(willBe.length, 'row') }}</UButton
      >
    </div>
  </main>
</template>
