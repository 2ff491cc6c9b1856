<script setup lang="ts">
import type { RunDetail, RunStep } from '~~/server/views'

const { run, now } = defineProps<{ run: RunDetail; now: number }>()
const from = computed(() => Date.parse(run.startedAt ?? run.at))
const to = computed(() => Math.max(from.value + 1000, run.finishedAt ? Date.parse(run.finishedAt) : now))
const share = (at: string | null) => (at === null ? 0 : Math.min(1, Math.max(0, (Date.parse(at) - from.value) / (to.value - from.value))))
const bar = (step: RunStep) => {
  const left = share(step.startedAt)
  const right = step.finishedAt ? share(step.finishedAt) : step.startedAt ? 1 : 0
  return { left: `${left * 100}%`, width: `max(3px, ${(right - left) * 100}%)` }
}
/** A stretch in which something stood still: from the last of its steps that held to its first release. */
function stretchOf(steps: RunStep[]) {
  const times = (kind: string, at: 'finishedAt' | 'startedAt') =>
    steps.flatMap((step) => (step.kind === kind && step[at] && (kind === 'release' || step.state === 'done') ? [Date.parse(step[at])] : []))
  const [reached, released] = [times('hold', 'finishedAt'), times('release', 'startedAt')]
  if (reached.length === 0) return null
  const [from, until] = [Math.max(...reached), released.length > 0 ? Math.min(...released) : to.value]
  const left = share(new Date(from).toISOString())
  return { left: `${left * 100}%`, width: `max(2px, ${(share(new Date(until).toISOString()) - left) * 100}%)` }
}
/** Where everything stood still; null when not every step of the sequence came about. */
const allHeld = computed(() => (run.steps.some(({ kind, state }) => kind === 'hold' && state !== 'done') ? null : stretchOf(run.steps)))
const held = computed(() => new Map(members.value.map((member) => [member, stretchOf(run.steps.filter((step) => step.member === member))])))
const lineOf = (step: RunStep) => (step.hold === null ? undefined : run.holds[step.hold])
const opened = ref<number | null>(null)
/** As they began; what waits comes last. */
const stepsOf = (member: string) =>
  run.steps
    .filter((step) => step.member === member)
    .sort((a, b) => (a.startedAt ?? '~').localeCompare(b.startedAt ?? '~') || a.ordinal - b.ordinal)
const outputOf = (step: RunStep) => lineOf(step)?.[step.kind === 'release' ? 'releaseOutput' : 'output'] ?? ''
const titleOf = (step: RunStep) => ({ prepare: 'Prepare: ', hold: 'Hold: ', release: 'Release: ' })[step.kind] ?? ''
const COLOR: Record<string, string> = { running: 'var(--glaze)', done: 'var(--ink)', failed: 'var(--error)', warned: 'var(--warning)' }
const members = computed(() => [...new Set(run.steps.map((step) => step.member))])
const duration = (step: RunStep) => (step.startedAt ? durationInWords(msOf(step)) : '')
const msOf = (step: RunStep) => (step.startedAt ? (step.finishedAt ? Date.parse(step.finishedAt) : now) - Date.parse(step.startedAt) : 0)
/** Of several steps that took a while, the one that took the longest. */
const longest = computed(() => {
  const [first, second] = [...run.steps].sort((a, b) => msOf(b) - msOf(a))
  return first && second && msOf(first) >= 1000 && msOf(first) > msOf(second) ? first : null
})
function figures({ counters }: RunStep): string {
  const parts = []
  if (counters.structures) parts.push(plural(counters.structures, 'structure'))
  const moved = movedInWords(counters)
  if (moved) parts.push(moved)
  if (counters['files kept']) parts.push(`${plural(counters['files kept'], 'file')}, ${bytesInWords(counters['bytes kept'] ?? 0)}`)
  if (counters.started) parts.push(`${countInWords(counters.started)} started`)
  if (counters['objects checked']) parts.push(`${countInWords(counters['objects checked'])} compared`)
  if (counters.bytes) parts.push(bytesInWords(counters.bytes))
  if (counters['snapshots read']) parts.push('from a snapshot')
  if (counters['volumes read in use']) parts.push('in place, while in use')
  if (counters['volumes read at rest']) parts.push('in place, while nothing used it')
  const checked = (counters['rows checked'] ?? 0) + (counters['files checked'] ?? 0)
  if (checked > 0) parts.push(`${countInWords(checked)} read back`)
  if (counters.stored !== undefined) parts.push(`${bytesInWords(counters.stored)} new`)
  return parts.join(', ')
}
</script>

<template>
  <section class="sheet px-6 pt-3 pb-6">
    <h2 class="flex items-baseline justify-between pb-2">
      <span class="font-semibold">Steps</span
      ><span class="soft s12">{{
        run.startedAt ? `${secondsOf(run.startedAt)} to ${run.finishedAt ? secondsOf(run.finishedAt) : 'now'}` : ''
      }}</span>
    </h2>
    <p v-if="run.steps.length === 0" class="soft py-2 text-[13px]">No step has begun.</p>
    <template v-for="member in members" :key="member">
      <h3 v-if="member" class="mono soft pt-1 pb-0.5 text-[12px]">{{ member }}</h3>
      <LongList v-slot="{ item: step, row }" as="div" :items="stepsOf(member)" :key-of="({ ordinal }) => ordinal" :row-height="30">
        <div
          v-bind="row"
          data-step
          class="grid min-h-[30px] grid-cols-[22px_minmax(140px,260px)_minmax(120px,1fr)_minmax(200px,320px)_64px] items-center gap-x-3 border-t border-[var(--line)] text-[13px]"
        >
          <UIcon
            :name="RUN_STATE[step.state].icon"
            class="size-3.5"
            :class="{ 'animate-spin': step.state === 'running' }"
            :style="{ color: RUN_STATE[step.state].color }"
            :aria-label="RUN_STATE[step.state].word"
          />
          <span
            class="cut"
            :class="step.kind === 'table' || step.kind === 'group' ? 'mono' : ''"
            :title="lineOf(step)?.[step.kind === 'release' ? 'releases' : 'does'] ?? step.title"
            >{{ titleOf(step) }}{{ step.title }}</span
          >
          <span class="relative h-[7px]"
            ><span
              v-if="held.get(member)"
              class="absolute -inset-y-[12px] bg-[color-mix(in_srgb,var(--hold)_10%,transparent)]"
              :title="`${member} is quiesced`"
              data-held
              :style="held.get(member)!" /><span
              v-if="allHeld"
              class="absolute -inset-y-[12px] bg-[color-mix(in_srgb,var(--hold)_14%,transparent)]"
              title="All members are quiesced"
              :style="allHeld" /><span
              v-if="step.startedAt"
              class="absolute inset-y-0 rounded-[1px]"
              :style="{
                ...bar(step),
                background:
                  step.state === 'done' && step.kind !== 'prepare' && lineOf(step) ? 'var(--hold)' : (COLOR[step.state] ?? 'var(--soft)'),
              }"
          /></span>
          <button
            v-if="outputOf(step)"
            class="soft num hover:text-[var(--ink)]"
            :aria-expanded="opened === step.ordinal"
            @click="opened = opened === step.ordinal ? null : step.ordinal"
          >
            <span class="lnk">what it wrote</span>
          </button>
          <span v-else class="soft cut num" :title="figures(step)">{{ figures(step) }}</span>
          <span v-if="step === longest" class="num font-semibold" title="No other step took longer" data-longest
            ><span class="sr-only">the longest: </span>{{ duration(step) }}</span
          >
          <span v-else class="num">{{ duration(step) }}</span>
          <span v-if="step.message" class="error col-span-3 col-start-2 pb-1.5" :class="{ 'text-[var(--soft)]!': step.state === 'done' }">{{
            step.message
          }}</span>
          <pre
            v-if="opened === step.ordinal"
            class="mono col-span-3 col-start-2 mb-1.5 max-h-52 overflow-auto border-l-2 border-[var(--line-strong)] pl-3 text-[11.5px] leading-[17px] whitespace-pre-wrap"
            >{{ outputOf(step) }}</pre>
        </div>
      </LongList>
    </template>
    <template v-if="run.messages.length > 0">
      <h2 class="pt-5 pb-2 font-semibold">Messages</h2>
      <ul class="rule border-t border-[var(--line)] text-[13px]">
        <li v-for="(message, i) in run.messages" :key="i" class="flex gap-3 py-1.5">
          <span class="soft num shrink-0">{{ secondsOf(message.at) }}</span>
          <UIcon
            v-if="message.level !== 'info'"
            :name="message.level === 'error' ? 'i-lucide-circle-alert' : 'i-lucide-triangle-alert'"
            class="mt-0.5 size-3.5 shrink-0"
            :class="message.level === 'error' ? 'error' : 'warning'"
            :aria-label="message.level"
          />
          <span class="min-w-0 break-words">{{ message.text }}</span>
        </li>
      </ul>
    </template>
  </section>
</template>
