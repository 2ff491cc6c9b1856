<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { UndoPlan, VesselView } from '~~/server/views'

// One transaction, row by row: what undoing it would do, what has touched the rows since, and the decisions.
const { vessel } = defineProps<{ vessel: VesselView }>()
useHead({ title: () => `Undo a transaction · ${vessel.name}` })
const route = useRoute()
const transaction = computed(() => ({
  member: String(route.query.member),
  position: String(route.query.position),
  end: String(route.query.end),
}))
const { data: plan, error } = useLoad<UndoPlan>(() => `/api/vessels/${vessel.slug}/undo?${new URLSearchParams(transaction.value)}`, {
  tells: true,
})
const decisions = shallowRef<UndoDecisions>({})
const tables = computed(() => plan.value?.tables ?? [])
const count = (passes: (...one: Parameters<typeof isDone>) => boolean) =>
  tables.value.reduce((sum, table) => sum + table.rows.filter((row) => passes(decisions.value, table, row)).length, 0)
const willBe = computed(() => count(isDone))
const conflicts = computed(() => count((_, __, row) => row.conflict !== null))
const open = computed(() => count(isOpen))
const reason = ref('')
const failure = shallowRef<ErrorRecord | null>(null)
const sending = ref(false)
async function go() {
  sending.value = true
  failure.value = null
  try {
    const { id } = await post<{ id: string }>(`/api/vessels/${vessel.slug}/undo`, {
      transaction: transaction.value,
      choices: decisions.value,
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
          <b class="font-semibold">{{ plural(willBe, 'row') }}</b> in {{ plural(tables.length, 'table') }} will be changed, in one
          transaction. <template v-if="conflicts === 0">Nothing has touched them since.</template
          ><span v-else class="warning"
            >{{ plural(conflicts, 'row') }} {{ conflicts === 1 ? 'has' : 'have' }} been touched since<template v-if="open > 0"
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
    <UndoRows v-else v-model="decisions" :tables="tables" :conflicts="conflicts" :open="open" class="min-h-0 flex-1" />
    <div v-if="plan" class="flex items-center gap-4 border-t border-[var(--line-strong)] bg-[var(--ground)] px-6 py-3 text-[13px]">
      <span
        ><b class="text-[15px] font-semibold">{{ countInWords(willBe) }}</b> {{ willBe === 1 ? 'row' : 'rows' }}, all of them or none</span
      >
      <ErrorNote v-if="failure" :error="failure" class="min-w-0 flex-1" />
      <UInput v-model="reason" name="reason" class="ml-auto w-80" placeholder="Why? It is kept with the receipt." :maxlength="500" />
      <UButton color="error" variant="solid" data-undo :disabled="willBe === 0 || !reason.trim()" :loading="sending" @click="go"
        >Undo {{ plural(willBe, 'row') }}</UButton
      >
    </div>
  </main>
</template>
