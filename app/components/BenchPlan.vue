<script setup lang="ts">
import type { Operation } from '~~/core/restore/plan'
import type { Collision } from '~~/core/restore/wish'
import { namesOf } from '~~/core/things/thing'
import type { Workbench } from '~/composables/useWorkbench'

const { bench } = defineProps<{ bench: Workbench }>()
const VERB = { make: 'Make', replace: 'Replace', merge: 'Merge', leave: 'Leave' } as const
const nameOf = (operation: Operation) => namesOf(operation.path).at(-1)!
const active = computed(() => bench.operations.value.filter((operation) => !operation.same))
const same = computed(() => bench.operations.value.length - active.value.length)
const replaced = computed(() => active.value.filter((operation) => operation.verb === 'replace'))
const overwritten = computed(() => replaced.value.reduce((sum, operation) => sum + (operation.overwrites ?? 0), 0))
const blockersOf = (operation: Operation) => bench.blockers.value.filter((blocker) => blocker.path === operation.path)
const warnings = computed(() => bench.plans.value.flatMap((plan) => plan.warnings))
const isBeside = computed(() => bench.mode.value === 'beside')
const WORD: Record<Collision, string> = { replace: 'Replace', rename: 'Rename', merge: 'Merge', skip: 'Skip' }
const choices = (operation: Operation) => operation.choices.map((value) => ({ label: WORD[value], value }))
const current = (operation: Operation) => bench.each.value[operation.path] ?? bench.collide.value
const decide = (operation: Operation, value: Collision) => (bench.each.value = { ...bench.each.value, [operation.path]: value })
function rename(operation: Operation, name: string) {
  if (name.trim() && name !== operation.target.name) bench.beside.names = { ...bench.beside.names, [operation.path]: name.trim() }
}
</script>

<template>
  <section class="min-h-0 overflow-y-auto border-l border-[var(--line)] px-4 pb-6" aria-label="Plan">
    <h2 class="flex h-[46px] items-center justify-between border-b border-[var(--line)]">
      <span class="font-semibold">Plan</span
      ><span class="soft s12">{{
        bench.planning.value ? 'planning…' : active.length > 0 ? plural(active.length + (replaced.length > 0 ? 1 : 0) + 1, 'step') : ''
      }}</span>
    </h2>
    <ErrorNote v-if="bench.trouble.value" :error="bench.trouble.value" class="mt-3" />
    <p v-else-if="bench.operations.value.length === 0" class="soft py-3 text-[13px]">
      {{ bench.planning.value ? '' : 'Tick what is to come back; every operation then stands here before anything is done.' }}
    </p>
    <ol class="rule text-[13px]">
      <li v-if="replaced.length > 0" class="grid grid-cols-[22px_1fr] py-2">
        <span class="soft s12 pt-px">1</span>
        <div>
          <b class="font-semibold">Keep</b> what is overwritten
          <p class="soft s12">about {{ countInWords(overwritten) }} rows, as a point of their own</p>
        </div>
      </li>
      <li
        v-for="(operation, i) in active"
        :key="operation.path"
        data-operation
        :data-path="operation.path"
        class="grid grid-cols-[22px_minmax(0,1fr)] py-2"
      >
        <span class="soft s12 pt-px">{{ i + 1 + (replaced.length > 0 ? 1 : 0) }}</span>
        <div class="min-w-0">
          <div class="flex items-center gap-2">
            <USelect
              v-if="operation.choices.length > 0"
              :model-value="current(operation)"
              value-key="value"
              :items="choices(operation)"
              size="xs"
              variant="ghost"
              class="-ml-2 font-semibold"
              :aria-label="`What to do with ${nameOf(operation)}`"
              @update:model-value="(value) => decide(operation, value as Collision)"
            />
            <b v-else class="font-semibold" :class="{ iron: operation.verb === 'replace', soft: operation.verb === 'leave' }">{{
              VERB[operation.verb]
            }}</b>
            <span class="mono cut" :title="operation.path">{{ nameOf(operation) }}</span>
            <span v-if="operation.kind !== 'table'" class="soft s12 shrink-0">{{ operation.kind.replace('-', ' ') }}</span>
          </div>
          <form v-if="operation.kind === 'table' && isBeside" class="mt-1 flex items-center gap-2" @submit.prevent>
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
          <p v-if="operation.overwrites !== null" class="iron s12">About {{ countInWords(operation.overwrites) }} rows are overwritten.</p>
          <p v-if="operation.along" class="soft s12">Goes along: {{ operation.along }}.</p>
          <p v-for="warning in operation.warnings" :key="warning" class="ochre s12">{{ warning }}</p>
          <div v-for="blocker in blockersOf(operation)" :key="blocker.code" class="iron s12 mt-1" data-blocker>
            <b class="font-semibold">{{ blocker.what }}</b> {{ blocker.next }}
          </div>
        </div>
      </li>
      <li
        v-if="active.some((operation) => operation.kind === 'table' && operation.verb !== 'leave')"
        class="grid grid-cols-[22px_1fr] py-2"
      >
        <span class="soft s12 pt-px">{{ active.length + 1 + (replaced.length > 0 ? 1 : 0) }}</span>
        <div>
          <span class="border-b-2 border-[var(--gold-line)] font-semibold">Check</span> every row
          <p class="soft s12">each table’s fingerprint against the backup, before it counts</p>
        </div>
      </li>
    </ol>
    <p v-if="same > 0" class="soft s12 border-t border-[var(--line)] py-2">
      {{ plural(same, 'thing') }} {{ same === 1 ? 'is' : 'are' }} there and the same as then.
    </p>
    <p v-for="warning in warnings" :key="warning" class="ochre s12 border-t border-[var(--line)] py-2">{{ warning }}</p>
  </section>
</template>
