<script setup lang="ts">
import { parse, quote } from 'shell-quote'
import type { Act, Pods } from '~~/core/quiesce/sequence'
import type { StillView } from '~~/server/views'

const {
  isCluster,
  measured,
  releasing = false,
} = defineProps<{
  isCluster: boolean
  measured: StillView | null
  label: string
  releasing?: boolean
}>()
const act = defineModel<Act>({ required: true })
const kinds = computed((): (readonly [Act['kind'], string])[] => [
  ...(isCluster ? ([['exec', 'a command in a container']] as const) : ([['sql', 'SQL']] as const)),
  ...(isCluster && !releasing ? ([['scale', 'fewer replicas']] as const) : []),
  ['http', 'a call'],
  ['program', 'a program'],
])
const kind = computed({ get: () => act.value.kind, set: (value) => (act.value = blankAct(value)) })
const PODS: { value: Pods; label: string }[] = [
  { value: 'one', label: 'in one of the pods' },
  { value: 'all', label: 'in all of the pods' },
  { value: 'passive', label: 'in a passive pod' },
]
const words = (list: string[]) => quote(list).replaceAll('\\{', '{').replaceAll('\\}', '}')
/** As it is typed at a prompt, though no shell will read it: quotes keep spaces together, and nothing else is special. */
function typed(text: string): string[] {
  return parse(text, (name) => `$${name}`).map((part) =>
    typeof part === 'string' ? part : 'pattern' in part ? part.pattern : 'op' in part ? part.op : `#${part.comment}`,
  )
}
const list = computed(() => (act.value.kind === 'exec' ? act.value.command : act.value.kind === 'program' ? act.value.arguments : []))
const text = ref(words(list.value))
watch(text, (now) => {
  if (act.value.kind === 'exec') act.value.command = typed(now)
  if (act.value.kind === 'program') act.value.arguments = typed(now)
})
watch(kind, () => (text.value = words(list.value)))
const http = computed(() => (act.value.kind === 'http' ? act.value : null))
const program = computed(() => (act.value.kind === 'program' ? act.value : null))
const programs = computed(() => (measured?.programs ?? []).map((value) => ({ value, label: value })))
</script>

<template>
  <div class="grid gap-2">
    <span><ChoiceBar v-model="kind" :choices="kinds" :label="label" /></span>
    <UTextarea
      v-if="act.kind === 'sql'"
      v-model="act.statement"
      :rows="2"
      autoresize
      class="mono w-full"
      :aria-label="`${label}: statement`"
      :placeholder="releasing ? 'commit' : 'begin; lock table sales.booking in share mode'"
    />
    <template v-else-if="act.kind === 'exec'">
      <UInput
        v-model="text"
        class="mono w-full"
        :aria-label="`${label}: command`"
        :placeholder="releasing ? 'manifestctl release' : 'manifestctl hold'"
      />
      <span v-if="!releasing" class="flex flex-wrap items-center gap-x-2 gap-y-1.5">
        <USelect v-model="act.pods" :items="PODS" value-key="value" class="w-40" aria-label="Which pods" />
        <span class="soft">labelled</span>
        <UInput v-model="act.selector" class="mono w-36" placeholder="app=manifest" aria-label="Labels of the pods" />
        <template v-if="act.pods === 'passive'"
          ><span class="soft">active is</span
          ><UInput v-model="act.active" class="mono w-36" placeholder="role=active" aria-label="Labels of the active pods"
        /></template>
        <span class="soft">container</span>
        <UInput v-model="act.container" class="mono w-24" placeholder="the first" aria-label="Container" />
      </span>
    </template>
    <span v-else-if="act.kind === 'scale'" class="flex items-center gap-2">
      <USelect v-model="act.workload" :items="['StatefulSet', 'Deployment']" class="w-36" aria-label="Kind of the workload" />
      <UInput v-model="act.name" class="mono w-44" placeholder="manifest" aria-label="Name of the workload" />
      <span class="soft">to</span><UInput v-model.number="act.replicas" type="number" min="0" class="w-20" aria-label="Replicas" /><span
        class="soft"
        >replicas</span
      >
    </span>
    <QuiesceCall v-else-if="http" :call="http" :label="label" :hosts="measured?.hosts ?? []" />
    <template v-else-if="program">
      <span class="flex items-center gap-2">
        <USelect
          v-model="program.program"
          :items="programs"
          value-key="value"
          class="w-52"
          placeholder="choose one"
          :aria-label="`${label}: program`"
        />
        <UInput v-model="text" class="mono flex-1" placeholder="arguments" :aria-label="`${label}: arguments`" />
      </span>
      <span v-if="measured && programs.length === 0" class="soft">{{
        measured.folder
          ? `There is no program in ${measured.folder}.`
          : 'No program may be run here yet; an administrator names their folder in VESSEL_HOOK_FOLDER.'
      }}</span>
    </template>
  </div>
</template>
