<script setup lang="ts">
import type { NamespacePlan, ObjectOperation, VolumeOperation } from '~~/core/cluster/operations'
import { PHASES, PHASE_TITLES } from '~~/core/cluster/phases'
import { rightsInWords } from '~~/core/cluster/rights'
import type { Collision } from '~~/core/restore/wish'
import { namesOf } from '~~/core/things/thing'

// What is done with one namespace, in the order in which it is done.
const { plan } = defineProps<{ plan: NamespacePlan }>()
const bench = useWorkbench()
const { choices } = bench
const VERB = { create: 'Make', replace: 'Replace', merge: 'Merge', leave: 'Leave' } as const
const active = computed(() => plan.operations.filter(({ same }) => !same))
const same = computed(() => plan.operations.filter((operation) => operation.same).length)
const phases = computed(() => {
  return PHASES.map((phase) => ({
    phase,
    title: PHASE_TITLES[phase],
    operations: active.value.filter((operation) => operation.phase === phase),
  })).filter(({ operations }) => operations.length > 0)
})
const starts = computed(() => active.value.some(({ phase, verb }) => phase === 'workloads' && verb !== 'leave'))
const CHOICES: Collision[] = ['replace', 'merge', 'rename', 'skip']
/** Whether there is something to decide: its name is taken, or it was decided to give it another one. */
const stands = (operation: ObjectOperation | VolumeOperation) => operation.stands || choices.each[operation.path] !== undefined
const current = (operation: ObjectOperation | VolumeOperation): Collision => choices.each[operation.path] ?? choices.collide
const decide = (operation: ObjectOperation | VolumeOperation, value: Collision) =>
  (choices.each = { ...choices.each, [operation.path]: value })
const nameOf = (operation: ObjectOperation | VolumeOperation) => namesOf(operation.target).at(-1)!
const was = (operation: ObjectOperation | VolumeOperation) => namesOf(operation.path).at(-1)!
const SHOWN = 12
const open = ref<string[]>([])
const shown = (phase: string, operations: ObjectOperation[]) => (open.value.includes(phase) ? operations : operations.slice(0, SHOWN))
</script>

<template>
  <section :aria-label="`Plan for ${plan.into}`" data-namespace-plan>
    <div v-for="blocker in plan.blockers" :key="blocker.what" class="error s12 border-b border-[var(--line)] py-2" data-blocker>
      <b class="font-semibold">{{ blocker.what }}</b> {{ blocker.next }}
    </div>
    <p v-if="plan.unplugged" class="border-b border-[var(--line)] py-2 text-[13px]" data-unplugged>
      <b class="font-semibold">Unplugged.</b> {{ plan.unplugged }}
      <span class="soft s12 block">Mappings lets them be as they were.</span>
    </p>
    <p v-for="warning in plan.warnings" :key="warning" class="warning s12 border-b border-[var(--line)] py-2">{{ warning }}</p>
    <p v-if="plan.overwrites > 0" class="border-b border-[var(--line)] py-2 text-[13px]">
      <b class="font-semibold">Keep</b> what exists there now
      <span class="soft s12 block">as a point of its own, for {{ plural(choices.keepDays, 'day') }}</span>
    </p>
    <p v-if="plan.makes" class="border-b border-[var(--line)] py-2 text-[13px]">
      <b class="font-semibold">Make</b> namespace <span class="mono">{{ plan.into }}</span> on {{ plan.source }}
    </p>
    <template v-for="{ phase, title, operations } in phases" :key="phase">
      <h3 class="soft s12 pt-2">{{ title }}</h3>
      <ol class="rule border-b border-[var(--line)] text-[13px]">
        <li v-for="operation in shown(phase, operations)" :key="operation.path" class="py-1.5" data-operation :data-path="operation.path">
          <div class="flex items-center gap-2">
            <CollisionChoice
              v-if="stands(operation)"
              :model-value="current(operation)"
              :choices="CHOICES"
              :name="nameOf(operation)"
              @update:model-value="(value) => decide(operation, value)"
            />
            <b v-else class="font-semibold" :class="{ soft: operation.verb === 'leave' }">{{ VERB[operation.verb] }}</b>
            <span class="mono cut" :class="{ soft: operation.verb === 'leave' }" :title="operation.target">{{ nameOf(operation) }}</span>
            <span class="soft s12 ml-auto shrink-0">{{ operation.kind }}</span>
          </div>
          <p v-if="operation.renamed" class="s12">
            in place of <span class="mono">{{ was(operation) }}</span>
          </p>
          <p v-for="note in operation.notes" :key="note" class="soft s12 break-words">
            {{ note }}
          </p>
          <p v-for="warning in operation.warnings" :key="warning" class="warning s12">{{ warning }}</p>
        </li>
        <li v-if="operations.length > shown(phase, operations).length" class="py-1.5">
          <button class="lnk" @click="open = [...open, phase]">{{ plural(operations.length - SHOWN, 'more') }}</button>
        </li>
      </ol>
    </template>
    <template v-if="plan.volumes.length > 0">
      <h3 class="soft s12 pt-2">Volumes filled</h3>
      <ol class="rule border-b border-[var(--line)] text-[13px]">
        <li v-for="volume in plan.volumes" :key="volume.path" class="py-1.5" data-operation :data-path="volume.path">
          <div class="flex items-center gap-2">
            <CollisionChoice
              v-if="stands(volume)"
              :model-value="volume.only && !choices.each[volume.path] ? 'merge' : current(volume)"
              :choices="CHOICES"
              :name="nameOf(volume)"
              @update:model-value="(value) => decide(volume, value)"
            />
            <b v-else class="font-semibold" :class="{ soft: volume.verb === 'leave' }">{{ volume.verb === 'leave' ? 'Leave' : 'Fill' }}</b>
            <span class="mono cut" :title="volume.target">{{ nameOf(volume) }}</span>
            <span class="soft s12 ml-auto shrink-0">{{
              volume.only ? plural(volume.only.length, 'pick') : plural(volume.files, 'file')
            }}</span>
          </div>
          <p v-for="note in volume.notes" :key="note" class="soft s12">{{ note }}</p>
          <p v-for="warning in volume.warnings" :key="warning" class="s12" :class="volume.verb === 'replace' ? 'error' : 'warning'">
            {{ warning }}
          </p>
        </li>
      </ol>
    </template>
    <p v-if="starts && choices.cluster.atRest" class="border-b border-[var(--line)] py-2 text-[13px]">
      <b class="font-semibold">Leave</b> the workloads at rest: nobody starts them
    </p>
    <p v-else-if="starts" class="border-b border-[var(--line)] py-2 text-[13px]">
      <b class="font-semibold">Start</b> the workloads, and wait until they are ready
    </p>
    <p v-for="step in choices.cluster.after" :key="step.name" class="border-b border-[var(--line)] py-2 text-[13px]">
      <b class="font-semibold">Run</b> <span class="mono">{{ step.act.kind === 'exec' ? step.act.command.join(' ') : step.name }}</span>
    </p>
    <p class="border-b border-[var(--line)] py-2 text-[13px]">
      <span class="border-b-2 border-[var(--gold-line)] font-semibold">Check</span> every object and every file
      <span class="soft s12 block">field by field, and by checksum, against the backup</span>
    </p>
    <UCollapsible v-if="plan.needs.length > 0" class="border-b border-[var(--line)] py-2 text-[13px]" data-rights>
      <button class="lnk">
        {{ plural(plan.needs.length, 'right') }} at {{ plan.source }} {{ plan.needs.length === 1 ? 'is' : 'are' }} needed
      </button>
      <template #content>
        <ul class="mono s12 pt-1.5">
          <li v-for="line in rightsInWords(plan.needs)" :key="line" class="break-words">{{ line }}</li>
        </ul>
      </template>
    </UCollapsible>
    <p v-if="same > 0" class="soft s12 py-2">{{ plural(same, 'object') }} {{ same === 1 ? 'stands' : 'stand' }} there as then.</p>
  </section>
</template>
