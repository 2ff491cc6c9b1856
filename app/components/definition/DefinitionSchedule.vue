<script setup lang="ts">
import { loggedPart } from '~~/core/selection/rules'
import { proposePlan } from '~~/core/plan/propose'
import { isZone, momentOfWall, wallOf } from '~~/core/time/zone'

// Whether, and when, a vessel is backed up by itself.
const draft = useDraft()
const schedule = computed(() => draft.definition.schedule)
const isOn = computed({ get: () => schedule.value !== undefined, set: (on) => draft.plan(on) })
const zones = Intl.supportedValuesOf('timeZone')
const zoneItems = computed(() => [...new Set(['UTC', schedule.value?.zone ?? 'UTC', ...zones])])
const now = useTicking()
/** What the clock of the plan shows where it is not the viewer's. */
const clockThere = computed(() => {
  const zone = schedule.value?.zone
  if (!zone || !isZone(zone) || wallOf(zone, now.value) === wallOf(zoneInUse.value, now.value)) return ''
  return `there it is ${clockIn(zone, now.value)} now, here ${clockOf(new Date(now.value))}`
})
/** The first start as the clock of the plan's zone shows it, as the field of the browser writes it. */
const from = computed({
  get: () => (schedule.value && isZone(schedule.value.zone) ? wallText(schedule.value.zone, schedule.value.from) : ''),
  set: (text) => {
    const wall = Date.parse(`${text}Z`)
    if (schedule.value && !Number.isNaN(wall)) schedule.value.from = new Date(momentOfWall(schedule.value.zone, wall)).toISOString()
  },
})
const { sizes } = useSimulation()
const { readiness } = useReadiness()
/** Why the plan is as it was proposed; empty where none was. */
const why = ref<string[]>([])
const isKnown = computed(() => (draft.selection?.taken.count ?? 0) > 0 && sizes.value.plainBytes > 0)
function propose() {
  const { promises, rules, log } = draft.definition
  const isReady = readiness.value?.every(({ obstacles }) => !obstacles.some(({ stops }) => stops)) ?? false
  const canLog = loggedPart(rules) === 'all' && (log.follow || isReady)
  const zone = schedule.value?.zone ?? zoneInUse.value
  const id = schedule.value?.lines[0]?.id ?? crypto.randomUUID()
  const proposal = proposePlan({ promises, sizes: sizes.value, zone, now: Date.now(), canLog, id })
  draft.definition.schedule = proposal.schedule
  draft.definition.retention = proposal.retention
  if (proposal.follow) log.follow = true
  why.value = proposal.why
}
const MEANWHILE = [
  ['wait', 'waits'],
  ['leave out', 'is left out'],
] as const
</script>

<template>
  <div data-schedule>
    <div class="grid min-h-11 grid-cols-[160px_1fr] items-center gap-3 py-1.5">
      <span id="schedule-label">Back up by itself</span>
      <span class="flex items-center gap-4"
        ><USwitch v-model="isOn" aria-labelledby="schedule-label" /><span class="soft">{{
          isOn ? 'the first full begins within moments of saving, unless there is one' : 'only when somebody says so'
        }}</span
        ><UButton
          v-if="isKnown"
          size="sm"
          class="ml-auto"
          title="From what is promised, and what was measured"
          data-propose
          @click="propose"
          >Propose a plan</UButton
        ></span
      >
    </div>
    <p v-if="why.length > 0" class="border-t border-[var(--line)] py-2 leading-[19px]" role="status" data-why>
      <b class="font-semibold">Proposed.</b> {{ why.join(' ') }}
    </p>
    <template v-if="schedule">
      <FieldRow label="Time zone of the plan"
        ><USelectMenu v-model="schedule.zone" :items="zoneItems" class="w-64" aria-label="Time zone of the plan" /><span class="soft">{{
          clockThere || 'all times of the plan are of this zone'
        }}</span></FieldRow
      >
      <FieldRow label="Nothing before" field="schedule-from"
        ><UInput id="schedule-from" v-model="from" type="datetime-local" class="w-56" /><span class="soft">its first start</span></FieldRow
      >
      <FieldRow label="Due during a run"
        ><ChoiceBar v-model="schedule.meanwhile" :choices="MEANWHILE" label="What is due while the line’s last run goes on" /><span
          class="soft"
          >what is due while the line’s last run goes on; one waits at most</span
        ></FieldRow
      >
      <ScheduleLine
        v-for="(line, i) in schedule.lines"
        :key="line.id"
        v-model="schedule.lines[i]!"
        :schedule="schedule"
        :last="draft.scheduled?.last[line.id] ?? null"
        :ways="draft.ways ?? null"
        @remove="draft.removeLine(line.id)"
      />
      <p class="border-t border-[var(--line)] py-2.5"><UButton size="sm" @click="draft.addLine()">Add a line</UButton></p>
    </template>
  </div>
</template>
