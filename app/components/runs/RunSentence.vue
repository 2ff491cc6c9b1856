<script setup lang="ts">
import { proofOf, provenInWords } from '~~/core/restore/receipt'
import type { RunDetail } from '~~/server/views'

const { run } = defineProps<{ run: RunDetail }>()
const outcome = computed(() => (run.outcome ?? {}) as Record<string, number>)
const moved = computed(() => movedInWords(run.counters) || plural(0, 'row'))
const soFar = computed(() => {
  if (run.kind === 'hold') return ''
  if (run.kind === 'prune') return ''
  if (run.kind === 'reindex') return `${plural(run.counters.packs ?? 0, 'file')} so far.`
  return run.kind === 'verify' ? `${bytesInWords(run.counters.bytes ?? 0)} so far.` : `${moved.value} so far.`
})
/** Which store it looks after. */
const store = computed(() => (typeof run.params.store === 'string' ? `the store ${run.params.store}` : `the store of ${run.vessel}`))
const back = computed(
  () => (outcome.value.made ?? 0) + (outcome.value.replaced ?? 0) + (outcome.value.renamed ?? 0) + (outcome.value.merged ?? 0),
)
/** Rows that were added to tables that stand; null when more than that was done. */
const added = computed(() => {
  const lines = run.receipt.filter(({ outcome: what }) => what !== 'left' && what !== 'compared' && what !== 'noted')
  if (lines.length === 0 || lines.some(({ outcome: what }) => what !== 'merged')) return null
  return lines.reduce((sum, line) => sum + (line.rows ?? 0), 0)
})
const into = computed(() => (run.outcome?.into ? ` into ${String(run.outcome.into)}` : ''))
/** From the first step to the last release. */
const heldFor = computed(() => Math.max(0, ...run.holds.map(({ released }) => released ?? 0)))
const undone = computed(() => (outcome.value.left ?? 0) + (outcome.value.failed ?? 0))
const proof = computed(() => proofOf(run.receipt))
</script>

<template>
  <PageSentence>
    <template v-if="run.state === 'waiting'"
      >{{ RUN_KIND[run.kind] }} of {{ run.vessel }} {{ run.waitsFor ? 'waits.' : 'waits for a worker.' }} {{ run.waitsFor }}</template
    >
    <template v-else-if="run.state === 'running'"
      >{{
        {
          backup: 'Backing up',
          restore: 'Restoring from',
          rehearsal: 'Rehearsing a restore from',
          verify: 'Verifying the store of',
          undo: 'Undoing a transaction of',
          hold: 'Rehearsing how to hold',
          fetch: 'Reading into the store what only the source of',
          audit: 'Auditing the log of',
          reindex: 'Rebuilding the index of the store of',
          prune: 'Letting go what may go of the store of',
        }[run.kind]
      }}
      {{ run.vessel }}{{ run.kind === 'hold' || run.kind === 'prune' ? '.' : run.kind === 'fetch' ? ' has: ' : ': ' }}{{ soFar }}</template
    >
    <template v-else-if="run.state === 'cancelled'"
      >Cancelled.
      {{ run.kind === 'backup' ? 'No point was made, and nothing is left of it.' : 'What was not finished is as it was.' }}</template
    >
    <template v-else-if="run.state === 'failed'"
      >{{ RUN_KIND[run.kind] }} of {{ run.vessel }} <u style="border-color: var(--error)">failed</u
      >{{ run.kind === 'backup' ? '; earlier points are untouched.' : '.' }}</template
    >
    <template v-else-if="run.kind === 'hold'"
      >{{ run.vessel }} was
      <u :style="{ borderColor: outcome.held ? 'var(--hold)' : 'var(--warning)' }">{{
        outcome.held ? `held for ${durationInWords(heldFor)}` : 'not held as it should be'
      }}</u>; nothing was backed up.</template
    >
    <template v-else-if="run.kind === 'backup'">
      <NuxtLink :to="`/vessels/${run.slug}?at=${run.finishedAt}`" style="border-color: var(--glaze)">A new point</NuxtLink> of
      {{ run.vessel }}: {{ moved }}, {{ bytesInWords(Number(outcome.stored ?? 0)) }} new in the store.
    </template>
    <template v-else-if="run.kind === 'fetch'"
      >Read into the store: what only the source of {{ run.vessel }} had is <u style="border-color: var(--glaze)">whole in its point</u>,
      {{ bytesInWords(Number(outcome.stored ?? 0)) }} new.</template
    >
    <template v-else-if="run.kind === 'audit'">
      <template v-if="Number(outcome.differing ?? 0) === 0"
        >Of {{ run.vessel }}, {{ plural(Number(outcome.audited ?? 0), 'table') }} {{ outcome.audited === 1 ? 'is' : 'are' }}
        <u style="border-color: var(--gold-line)">exactly what the log leads to</u>.</template
      >
      <template v-else
        >Of {{ plural(Number(outcome.audited), 'table') }} of {{ run.vessel }},
        <u style="border-color: var(--error)"
          >{{ outcome.differing }} {{ outcome.differing === 1 ? 'is' : 'are' }} not what the log leads to</u
        >.</template
      >
    </template>
    <template v-else-if="run.kind === 'prune' && run.outcome?.dry"
      >Nothing was removed. A prune of {{ store }} would let go: {{ prunedInWords(outcome) }}.</template
    >
    <template v-else-if="run.kind === 'prune'"
      >Of {{ store }} <u style="border-color: var(--glaze)">{{ prunedInWords(outcome) }}</u> went.</template
    >
    <template v-else-if="run.kind === 'reindex' && Number(outcome.added ?? 0) === 0"
      >Nothing was missing: the index of the store of {{ run.vessel }} knows all
      {{ plural(Number(outcome.packs ?? 0), 'file of content', 'files of content') }}.</template
    >
    <template v-else-if="run.kind === 'reindex'"
      >{{ outcome.added }} of {{ plural(Number(outcome.packs), 'file of content', 'files of content') }}
      {{ outcome.added === 1 ? 'is' : 'are' }} back in the index of {{ store
      }}<template v-if="Number(outcome.torn ?? 0) > 0"
        >, <u style="border-color: var(--warning)">{{ outcome.torn }} not to the end</u></template
      >. A verification tells whether what they hold is whole.</template
    >
    <template v-else-if="run.kind === 'verify'"
      >All content of {{ store }} is <u style="border-color: var(--gold-line)">whole</u>:
      {{ bytesInWords(run.counters.bytes ?? 0) }} read<template v-if="run.state === 'warned'"
        >; <u style="border-color: var(--warning)">more lies there</u> than the catalog knows of</template
      >.</template
    >
    <template v-else-if="run.kind === 'rehearsal'"
      >Rehearsed, nothing was written: {{ plural(back, 'thing') }} would be restored<template v-if="undone > 0"
        >, {{ undone }} would not</template
      >.</template
    >
    <template v-else-if="undone === 0 && Number(outcome.leftParts ?? 0) > 0">
      {{ plural(back, 'thing') }} restored{{ into }},
      <u style="border-color: var(--warning)">{{ plural(Number(outcome.leftParts), 'part') }} not as it was</u>.
    </template>
    <template v-else-if="undone === 0 && Number(outcome.unequal ?? 0) > 0">
      {{ plural(back, 'thing') }} restored{{ into }},
      <u style="border-color: var(--warning)"
        >{{ outcome.unequal }} not in everything as {{ outcome.unequal === 1 ? 'it was' : 'they were' }}</u
      >.
    </template>
    <template v-else-if="undone > 0"
      >{{ plural(back, 'thing') }} restored,
      <u style="border-color: var(--warning)">{{ undone }} {{ undone === 1 ? 'was' : 'were' }} not restored</u>.</template
    >
    <template v-else
      >Done: {{ added === null ? plural(back, 'thing') : plural(added, 'row') }} restored{{ into
      }}<template v-if="proof.things > 0"
        >, <u :style="{ borderColor: proof.equal > 0 ? 'var(--gold-line)' : 'var(--line)' }">{{ provenInWords(proof) }}</u></template
      >.</template
    >
  </PageSentence>
</template>
