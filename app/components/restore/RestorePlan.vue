<script setup lang="ts">
// What is done with databases, step by step; what is done with namespaces follows.
import type { Operation } from '~~/core/restore/plan'
import type { Collision } from '~~/core/restore/wish'
import { namesOf } from '~~/core/things/thing'

const bench = useWorkbench()
const { choices } = bench
const VERB = { make: 'Make', replace: 'Replace', merge: 'Add', leave: 'Leave' } as const
const nameOf = (operation: Operation) => namesOf(operation.path).at(-1)!
const active = computed(() => bench.operations.filter((operation) => !operation.same))
const same = computed(() => bench.operations.filter((operation) => operation.same))
const overwriting = computed(() => active.value.filter((operation) => operation.verb === 'replace' || operation.verb === 'merge'))
const overwritten = computed(() => active.value.reduce((sum, operation) => sum + (operation.overwrites ?? 0), 0))
const blockersOf = (path: string) => bench.blockers.filter((blocker) => blocker.path === path)
/** Blockers of no operation of the list: of the whole, or of what is missing. */
const general = computed(() => bench.blockers.filter(({ path }) => !active.value.some((operation) => operation.path === path)))
const warnings = computed(() => bench.plans.flatMap((plan) => plan.warnings))
const found = computed(() => bench.plans.flatMap((plan) => plan.found))
const checks = computed(() => bench.plans.flatMap((plan) => plan.checks))
const current = (operation: Operation): Collision =>
  choices.each[operation.path] ?? (operation.same ? 'skip' : operation.choices.includes(choices.collide) ? choices.collide : 'skip')
const decide = (operation: Operation, value: Collision) => (choices.each = { ...choices.each, [operation.path]: value })
const isNamed = (operation: Operation) => choices.mode === 'beside' && operation.renamed && operation.how === 'create'
function rename(operation: Operation, name: string) {
  if (name.trim() && name !== operation.target.name) choices.beside.names = { ...choices.beside.names, [operation.path]: name.trim() }
}
const leaveHome = (path: string) => (choices.without = [...choices.without, path])
const first = computed(() => (overwriting.value.length > 0 ? 1 : 0))
const OUTCOME = {
  ok: ['i-lucide-check', 'var(--glaze)'],
  advice: ['i-lucide-triangle-alert', 'var(--warning-text)'],
  missing: ['i-lucide-x', 'var(--error)'],
} as const
</script>

<template>
  <section class="min-h-0 overflow-y-auto border-l border-[var(--line)] px-4 pb-6" aria-label="Plan">
    <h2 class="flex h-[46px] items-center justify-between border-b border-[var(--line)]">
      <span class="font-semibold">Plan</span
      ><span class="soft s12">{{ bench.planning ? 'planning…' : active.length > 0 ? plural(active.length + first + 1, 'step') : '' }}</span>
    </h2>
    <ErrorNote v-if="bench.trouble" :error="bench.trouble" class="mt-3" />
    <p v-else-if="bench.operations.length + bench.namespaces.length === 0" class="soft py-3 text-[13px]">
      <template v-if="!bench.planning">{{
        choices.mode === 'elsewhere' && !choices.elsewhere.database
          ? 'Name the database to restore into; one that does not exist is created.'
          : 'Tick what is to be restored; every operation is then listed here before anything is done.'
      }}</template>
    </p>
    <div v-for="blocker in general" :key="blocker.code + blocker.path" class="error s12 border-b border-[var(--line)] py-2" data-blocker>
      <b class="font-semibold">{{ blocker.what }}</b> {{ blocker.next }}
    </div>
    <ol v-if="first" class="text-[13px]">
      <li class="grid grid-cols-[22px_1fr] border-b border-[var(--line)] py-2">
        <span class="soft s12 pt-px">1</span>
        <div>
          <b class="font-semibold">Keep</b> what exists there now
          <p class="soft s12">
            {{ overwritten > 0 ? `about ${countInWords(overwritten)} rows, ` : '' }}as a point of their own, for
            {{ plural(choices.keepDays, 'day') }}
          </p>
        </div>
      </li>
    </ol>
    <LongList
      v-slot="{ item: operation, index: i, row }"
      as="ol"
      :items="active"
      :key-of="({ path, kind }) => path + kind"
      :row-height="54"
      class="text-[13px]"
      :start="first + 1"
    >
      <li
        v-bind="row"
        data-operation
        :data-path="operation.path"
        class="grid grid-cols-[22px_minmax(0,1fr)] border-t border-[var(--line)] py-2 first:border-t-0"
      >
        <span class="soft s12 pt-px">{{ i + 1 + first }}</span>
        <div class="min-w-0">
          <div class="flex items-center gap-2">
            <CollisionChoice
              v-if="operation.choices.length > 0"
              :model-value="current(operation)"
              :choices="operation.choices"
              :name="nameOf(operation)"
              @update:model-value="(value) => decide(operation, value)"
            />
            <b v-else class="font-semibold" :class="{ error: operation.verb === 'replace', soft: operation.verb === 'leave' }">{{
              operation.how === 'rows' ? 'Put' : VERB[operation.verb]
            }}</b>
            <span class="mono cut" :title="operation.path">{{ nameOf(operation) }}</span>
            <span v-if="operation.kind !== 'table'" class="soft s12 shrink-0">{{ kindInWords(operation.kind) }}</span>
          </div>
          <form v-if="isNamed(operation)" class="mt-1 flex items-center gap-2" @submit.prevent>
            <span class="soft s12 shrink-0">as {{ operation.target.schema }}.</span>
            <UInput
              :model-value="operation.target.name"
              size="xs"
              class="mono flex-1"
              :aria-label="`New name of ${nameOf(operation)}`"
              :maxlength="63"
              @change="rename(operation, ($event.target as HTMLInputElement).value)"
            />
          </form>
          <p v-else-if="operation.renamed" class="s12 break-words">
            as <span class="mono">{{ operation.target.schema }}.{{ operation.target.name }}</span>
          </p>
          <p v-for="note in operation.notes" :key="note" class="soft s12">{{ note }}</p>
          <p v-if="operation.overwrites !== null" class="error s12">
            <template v-if="operation.overwrites === 0">What it holds now is overwritten.</template>
            <template v-else
              >About {{ countInWords(operation.overwrites) }} {{ operation.kind === 'table' ? 'rows' : 'of them' }} are
              overwritten.</template
            >
          </p>
          <p v-if="operation.rebuilds.length > 0" class="s12" data-rebuilds>
            What depends on it is created again as it is now: {{ operation.rebuilds.map(({ words }) => words).join(', ') }}.
          </p>
          <p v-if="operation.along" class="soft s12">
            Comes along: {{ operation.along }}.
            <button
              v-if="choices.along && operation.kind !== 'role' && operation.when !== 'group'"
              class="lnk"
              @click="leaveHome(operation.path)"
            >
              Leave it
            </button>
          </p>
          <p v-for="warning in operation.warnings" :key="warning" class="warning s12">{{ warning }}</p>
          <div v-for="blocker in blockersOf(operation.path)" :key="blocker.code" class="error s12 mt-1" data-blocker>
            <b class="font-semibold">{{ blocker.what }}</b> {{ blocker.next }}
          </div>
        </div>
      </li>
    </LongList>
    <ol
      v-if="active.some((operation) => operation.kind === 'table' && operation.verb !== 'leave')"
      class="text-[13px]"
      :start="active.length + 1 + first"
    >
      <li class="grid grid-cols-[22px_1fr] border-t border-[var(--line)] py-2">
        <span class="soft s12 pt-px">{{ active.length + 1 + first }}</span>
        <div>
          <span class="border-b-2 border-[var(--gold-line)] font-semibold">Check</span> every row
          <p class="soft s12">each table’s fingerprint against the backup, before it counts</p>
        </div>
      </li>
    </ol>
    <RestorePlanNamespace v-for="plan in bench.namespaces" :key="plan.namespace" :plan="plan" />
    <p v-if="same.length > 0" class="soft s12 border-t border-[var(--line)] py-2">
      {{ plural(same.length, 'thing') }} {{ same.length === 1 ? 'is' : 'are' }} there and the same as then.
    </p>
    <p v-if="found.length > 0" class="soft s12 border-t border-[var(--line)] py-2" :title="found.join('\n')">
      {{ plural(found.length, 'thing') }} that {{ found.length === 1 ? 'is' : 'are' }} needed {{ found.length === 1 ? 'is' : 'are' }} found
      at the target.
    </p>
    <p v-if="choices.without.length > 0" class="s12 border-t border-[var(--line)] py-2">
      {{ plural(choices.without.length, 'thing') }} left out.
      <button class="lnk" @click="choices.without = []">Restore it along again</button>
    </p>
    <p v-for="warning in warnings" :key="warning" class="warning s12 border-t border-[var(--line)] py-2">{{ warning }}</p>
    <template v-if="checks.length > 0">
      <h3 class="mt-3 border-b border-[var(--line)] pb-1 text-[13px] font-semibold">Checked first</h3>
      <ul class="grid gap-1 pt-2 text-[12px] leading-[16px]">
        <li v-for="(check, i) in checks" :key="i" class="grid grid-cols-[22px_1fr]" data-check :data-outcome="check.outcome">
          <UIcon :name="OUTCOME[check.outcome][0]" class="size-3.5" :style="{ color: OUTCOME[check.outcome][1] }" />
          <span :class="check.outcome === 'ok' ? 'soft' : check.outcome === 'advice' ? 'warning' : 'error'">{{ check.what }}</span>
        </li>
      </ul>
    </template>
  </section>
</template>
