<script setup lang="ts">
import { ANY_TIME, LOG } from '~~/core/plan/definition'
import { loggedPart } from '~~/core/selection/rules'

// Whether the log is followed, what is put onto the source for it, and what would be in no log.
const draft = useDraft()
const MIB = 1024 * 1024
const log = computed(() => draft.definition.log)
const { readiness, trouble } = useReadiness()
const keepMb = computed({ get: () => Math.round(log.value.keepAtMost / MIB), set: (mb) => (log.value.keepAtMost = Math.round(mb) * MIB) })
// What is not said is as usual; only what somebody sets is kept.
const limits = computed(() => log.value.audit ?? ANY_TIME)
const limit = (change: Partial<typeof ANY_TIME>) => (log.value.audit = { ...limits.value, ...change })
const auditRate = computed({ get: () => limits.value.megabytesPerSecond, set: (rate) => limit({ megabytesPerSecond: rate }) })
const auditFrom = computed({ get: () => limits.value.hours?.from ?? 22, set: (from) => limit({ hours: { from, to: auditTo.value } }) })
const auditTo = computed({ get: () => limits.value.hours?.to ?? 6, set: (to) => limit({ hours: { from: auditFrom.value, to } }) })
const auditWhen = computed({
  get: () => (limits.value.hours ? ('hours' as const) : ('any' as const)),
  set: (when) => limit({ hours: when === 'hours' ? { from: auditFrom.value, to: auditTo.value } : null }),
})
const WHEN = [
  ['any', 'at any hour'],
  ['hours', 'between'],
] as const
const STRUCTURE = [
  ['trigger', 'a trigger there'],
  ['compare', 'comparing catalogs'],
] as const
const shown = ref<string | null>(null)
const logged = computed(() => loggedPart(draft.definition.rules))
const ready = computed(() => (readiness.value ?? []).every(({ obstacles }) => !obstacles.some(({ stops }) => stops)))
</script>

<template>
  <div class="text-[13px]" data-log>
    <div class="grid min-h-11 grid-cols-[160px_1fr] items-center gap-3 py-1.5">
      <span id="log-label">Follow the log</span>
      <span v-if="logged === 'none'" class="soft">namespaces have none; the moments of backups can be entered</span>
      <span v-else class="flex items-center gap-4"
        ><USwitch v-model="log.follow" aria-labelledby="log-label" /><span class="soft"
          >{{ log.follow ? 'every moment can be entered, from the next full on' : 'only the moments of backups can be entered'
          }}{{ log.follow && logged === 'some' ? '; of namespaces only the moments of backups' : '' }}</span
        ></span
      >
    </div>
    <template v-if="log.follow && logged !== 'none'">
      <FieldRow label="Stored at the latest after" field="log-seconds"
        ><UInput
          id="log-seconds"
          v-model.number="log.everySeconds"
          type="number"
          :min="LOG.seconds.min"
          :max="LOG.seconds.max"
          class="w-24"
        /><span class="soft">seconds; what is not in the store yet does not count as safe</span></FieldRow
      >
      <FieldRow label="The source may keep" field="log-keep"
        ><UInput id="log-keep" v-model.number="keepMb" type="number" :min="LOG.keep.min / MIB" class="w-24" /><span class="soft"
          >MB of log for us; at that the slot is given up, and a new full begins</span
        ></FieldRow
      >
      <FieldRow label="Structure is followed by"
        ><ChoiceBar v-model="log.structure" :choices="STRUCTURE" label="Structure is followed by"
      /></FieldRow>
      <FieldRow label="An audit reads at most" field="log-audit"
        ><UInput
          id="log-audit"
          v-model.number="auditRate"
          type="number"
          :min="LOG.auditRate.min"
          :max="LOG.auditRate.max"
          class="w-24"
        /><span class="soft">MB a second, so that the source has its disk for others</span></FieldRow
      >
      <FieldRow label="Tables are audited" data-audit
        ><ChoiceBar v-model="auditWhen" :choices="WHEN" label="When tables are audited" /><template v-if="auditWhen === 'hours'"
          ><UInput v-model.number="auditFrom" type="number" min="0" max="23" class="w-20" aria-label="From this hour" /><span class="soft"
            >and</span
          ><UInput v-model.number="auditTo" type="number" min="0" max="23" class="w-20" aria-label="To this hour" /></template
        ><span class="soft">{{ auditWhen === 'hours' ? 'o’clock UTC; each within a week' : 'each within a week' }}</span></FieldRow
      >
    </template>
    <ErrorNote v-if="trouble" :error="trouble" class="my-2" />
    <!-- As high as what comes, so that nothing below moves away from under a hand. -->
    <p v-else-if="!readiness && logged !== 'none'" class="soft border-t border-[var(--line)] py-2.5">
      Whether its log can be followed is being asked.
    </p>
    <div v-for="member in readiness ?? []" :key="member.member" class="border-t border-[var(--line)] py-2.5" data-readiness>
      <div class="flex items-baseline gap-3">
        <span class="mono text-[12.5px] font-medium">{{ member.member }}</span>
        <span v-if="member.obstacles.some(({ stops }) => stops)" class="error font-medium">Its log can’t be followed yet.</span>
        <span v-else-if="log.follow"
          >Any moment could be entered, for {{ plural(member.followed, 'table')
          }}<template v-if="member.unfollowed.length > 0"
            >; <span class="warning">{{ plural(member.unfollowed.length, 'table') }} only as of backups</span></template
          >.</span
        ><span v-else class="soft">Its log could be followed, for {{ plural(member.followed, 'table') }}.</span>
        <button
          v-if="member.statements.length > 0 && ready"
          type="button"
          class="lnk ml-auto shrink-0"
          @click="shown = shown === member.member ? null : member.member"
        >
          {{ shown === member.member ? 'Hide the statements' : 'Show the statements' }}
        </button>
      </div>
      <p v-if="member.retained !== null" class="soft mt-1">
        The source keeps {{ bytesInWords(member.retained) }} of log for it now, and may keep {{ bytesInWords(log.keepAtMost) }}.
        <b v-if="member.full" class="warning font-semibold" data-full
          >At the present rate {{ member.full.by === 'disk' ? 'the disk of its log is full' : 'that is reached' }}
          {{ whenOf(member.full.at) }}.</b
        >
      </p>
      <p v-for="obstacle in member.obstacles" :key="obstacle.what" class="mt-1.5" :class="obstacle.stops ? 'error' : 'soft'">
        {{ obstacle.what }}<br /><code class="mono text-[12px] text-[var(--ink)]">{{ obstacle.mend }}</code>
      </p>
      <ul v-if="log.follow && member.unfollowed.length > 0" class="mt-1.5">
        <li v-for="table in member.unfollowed.slice(0, 6)" :key="table.name" class="py-1 leading-[18px]">
          <span class="mono text-[12px] font-medium">{{ table.name }}</span> <span class="warning">{{ table.why }}</span> It is read whole
          with each differential.<br v-if="table.mend" /><code v-if="table.mend" class="mono text-[12px]">{{ table.mend }}</code>
        </li>
        <li v-if="member.unfollowed.length > 6" class="soft">and {{ plural(member.unfollowed.length - 6, 'table') }} more</li>
      </ul>
      <pre
        v-if="shown === member.member"
        class="mono mt-2 max-h-72 overflow-auto border-l-2 border-[var(--line-strong)] pl-3 text-[11.5px] leading-[17px] whitespace-pre-wrap"
        >{{ member.statements.join('\n\n') }}

-- and when the log is not followed any more:
{{ member.removal.join('\n') }}</pre>
      <p v-if="shown === member.member" class="soft mt-1">Saving with the log on gives consent to these statements.</p>
    </div>
  </div>
</template>
