<script setup lang="ts">
import { CALENDAR_UNITS, RETENTION, type CalendarUnit, type KeepRule } from '~~/core/plan/retention'

// How long points and log stay.
const draft = useDraft()
const retention = computed(() => draft.definition.retention)
const isOn = computed({ get: () => retention.value !== undefined, set: (on) => draft.retain(on) })

type Choice = 'last' | 'hours' | 'days' | CalendarUnit
const CHOICES: { label: string; value: Choice }[] = [
  { label: 'the last points', value: 'last' },
  { label: 'everything, for hours', value: 'hours' },
  { label: 'everything, for days', value: 'days' },
  ...CALENDAR_UNITS.map((each) => ({ label: `one ${each === 'hour' ? 'an' : 'a'} ${each}`, value: each })),
]
const choiceOf = (rule: KeepRule): Choice => (rule.kind === 'last' ? 'last' : rule.kind === 'all' ? rule.unit : rule.each)
const countOf = (rule: KeepRule) => (rule.kind === 'last' ? rule.points : rule.count)
function ruleOf(choice: Choice, count: number): KeepRule {
  if (choice === 'last') return { kind: 'last', points: count }
  return choice === 'hours' || choice === 'days' ? { kind: 'all', unit: choice, count } : { kind: 'calendar', each: choice, count }
}
const UNIT: Record<Choice, string> = {
  ...{ last: 'points', hours: 'hours', days: 'days' },
  ...{ hour: 'hours', day: 'days', week: 'weeks', month: 'months', year: 'years' },
}
const zone = computed(() => draft.definition.schedule?.zone ?? 'UTC')
const hasCalendar = computed(() => retention.value?.rules.some(({ kind }) => kind === 'calendar') ?? false)
const put = (i: number, rule: KeepRule) => void (retention.value!.rules[i] = rule)
const staysByHand = computed({
  get: () => retention.value?.byHandDays !== null,
  set: (isSo) => void (retention.value!.byHandDays = isSo ? 30 : null),
})
</script>

<template>
  <section class="scroll-mt-4 border-t border-[var(--line-strong)] pt-4 pb-6" data-retention>
    <h2 class="flex items-baseline gap-3">
      <span class="text-[16px] font-semibold">How long</span
      ><span class="soft text-[13px]">points stay as long as any rule keeps them, and as long as anything that stays needs them</span>
    </h2>
    <div class="rule mt-2 border-y border-[var(--line)] text-[13px]">
      <FieldRow label="Points go by themselves"
        ><USwitch v-model="isOn" aria-label="Points go by themselves" /><span class="soft">{{
          isOn ? 'with the next prune of their store, once nothing keeps them' : 'they stay until somebody deletes them'
        }}</span></FieldRow
      >
      <template v-if="retention">
        <div class="grid grid-cols-[160px_minmax(0,1fr)] gap-x-3 py-2.5">
          <span class="pt-1.5">What the plan made</span>
          <ul class="grid grid-cols-[minmax(0,1fr)] gap-1.5">
            <li v-for="(rule, i) in retention.rules" :key="i" class="flex items-center gap-2" data-keep-rule>
              <USelect
                :model-value="choiceOf(rule)"
                :items="CHOICES"
                value-key="value"
                class="w-48"
                :aria-label="`What rule ${i + 1} keeps`"
                @update:model-value="(choice: Choice) => put(i, ruleOf(choice, countOf(rule)))"
              />
              <UInput
                :model-value="countOf(rule)"
                type="number"
                :min="RETENTION.count.min"
                :max="RETENTION.count.max"
                class="w-20 shrink-0"
                :aria-label="`How many of rule ${i + 1}`"
                @update:model-value="(count: string | number) => put(i, ruleOf(choiceOf(rule), Number(count)))"
              />
              <span class="whitespace-nowrap">{{ UNIT[choiceOf(rule)] }}</span>
              <UButton
                size="sm"
                variant="ghost"
                icon="i-lucide-x"
                :aria-label="`Remove rule ${i + 1}`"
                @click="retention.rules.splice(i, 1)"
              />
            </li>
            <li class="flex items-center gap-3">
              <UButton size="sm" class="shrink-0" @click="retention.rules.push({ kind: 'last', points: 7 })">One more rule</UButton
              ><span v-if="hasCalendar" class="soft"
                >one of each is the first good point of it, by the calendar of {{ zone }}; what has none does not count</span
              >
            </li>
          </ul>
        </div>
        <FieldRow label="Always at least" field="keep-least"
          ><UInput
            id="keep-least"
            v-model.number="retention.atLeast"
            type="number"
            :min="1"
            :max="RETENTION.atLeast.max"
            class="w-20 shrink-0"
          /><span>good points</span><span class="soft">whatever their age</span></FieldRow
        >
        <FieldRow label="Every moment of the log" field="keep-log"
          ><UInput
            id="keep-log"
            v-model.number="retention.logHours"
            type="number"
            :min="0"
            :max="RETENTION.logHours.max"
            class="w-20 shrink-0"
          /><span>hours</span
          ><span class="soft"
            >all points of that time stay with it, and the log from the newest full on; then only points stay</span
          ></FieldRow
        >
        <FieldRow label="Backed up by hand"
          ><USwitch v-model="staysByHand" aria-label="Points by hand have a term" /><template v-if="retention.byHandDays !== null"
            ><UInput
              v-model.number="retention.byHandDays"
              type="number"
              :min="RETENTION.days.min"
              :max="RETENTION.days.max"
              class="w-20 shrink-0"
              aria-label="Days that points by hand stay"
            /><span>days</span><span class="soft">unless another term is chosen for a point</span></template
          ><span v-else class="soft">until somebody deletes it, unless a term is chosen for a point</span></FieldRow
        >
        <FieldRow label="After a thing is gone" field="keep-gone"
          ><UInput
            id="keep-gone"
            v-model.number="retention.gone.automaticDays"
            type="number"
            :min="RETENTION.days.min"
            :max="RETENTION.days.max"
            class="w-20 shrink-0"
          /><span>days</span
          ><span class="soft">the last point that holds it stays so long, unless somebody said that it was meant</span></FieldRow
        >
        <FieldRow label="Deleted as a whole" field="keep-gone-by-hand"
          ><span class="soft">what the plan made stays as long, what a person made</span
          ><UInput
            id="keep-gone-by-hand"
            v-model.number="retention.gone.byHandDays"
            type="number"
            :min="RETENTION.days.min"
            :max="RETENTION.days.max"
            class="w-20 shrink-0"
          /><span>days</span></FieldRow
        >
        <KeptCalendar />
      </template>
    </div>
  </section>
</template>
