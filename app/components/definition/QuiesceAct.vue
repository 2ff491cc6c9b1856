<script setup lang="ts">
import { parse, quote } from 'shell-quote'
import type { Act, Pods } from '~~/core/quiesce/sequence'
import type { QuiesceView } from '~~/server/views'

const {
  isCluster,
  measured,
  releasing = false,
} = defineProps<{
  isCluster: boolean
  measured: QuiesceView | null
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
/** Another act, which differs in some of its fields. */
const put = (change: object) => (act.value = { ...act.value, ...change })
function write(now: string) {
  text.value = now
  put(act.value.kind === 'exec' ? { command: typed(now) } : { arguments: typed(now) })
}
watch(kind, () => (text.value = words(list.value)))
const programs = computed(() => (measured?.programs ?? []).map((value) => ({ value, label: value })))
</script>

<template>
  <div class="grid gap-2">
    <span><ChoiceBar v-model="kind" :choices="kinds" :label="label" /></span>
    <UTextarea
      v-if="act.kind === 'sql'"
      :model-value="act.statement"
      :rows="2"
      autoresize
      class="mono w-full"
      :aria-label="`${label}: statement`"
      :placeholder="releasing ? 'commit' : 'begin; lock table sales.booking in share mode'"
      @update:model-value="put({ statement: $event })"
    />
    <template v-else-if="act.kind === 'exec'">
      <UInput
        :model-value="text"
        class="mono w-full"
        :aria-label="`${label}: command`"
        :placeholder="releasing ? 'manifestctl release' : 'manifestctl hold'"
        @update:model-value="write"
      />
      <span v-if="!releasing" class="flex flex-wrap items-center gap-x-2 gap-y-1.5">
        <USelect
          :model-value="act.pods"
          :items="PODS"
          value-key="value"
          class="w-40"
          aria-label="Which pods"
          @update:model-value="put({ pods: $event })"
        />
        <span class="soft">labelled</span>
        <UInput
          :model-value="act.selector"
          class="mono w-36"
          placeholder="app=manifest"
          aria-label="Labels of the pods"
          @update:model-value="put({ selector: $event })"
        />
        <template v-if="act.pods === 'passive'"
          ><span class="soft">active is</span
          ><UInput
            :model-value="act.active"
            class="mono w-36"
            placeholder="role=active"
            aria-label="Labels of the active pods"
            @update:model-value="put({ active: $event })"
        /></template>
        <span class="soft">container</span>
        <UInput
          :model-value="act.container"
          class="mono w-24"
          placeholder="the first"
          aria-label="Container"
          @update:model-value="put({ container: $event })"
        />
      </span>
    </template>
    <span v-else-if="act.kind === 'scale'" class="flex items-center gap-2">
      <USelect
        :model-value="act.workload"
        :items="['StatefulSet', 'Deployment']"
        class="w-36"
        aria-label="Kind of the workload"
        @update:model-value="put({ workload: $event })"
      />
      <UInput
        :model-value="act.name"
        class="mono w-44"
        placeholder="manifest"
        aria-label="Name of the workload"
        @update:model-value="put({ name: $event })"
      />
      <span class="soft">to</span
      ><UInput
        :model-value="act.replicas"
        type="number"
        min="0"
        class="w-20"
        aria-label="Replicas"
        @update:model-value="put({ replicas: Number($event) })"
      /><span class="soft">replicas</span>
    </span>
    <QuiesceCall v-else-if="act.kind === 'http'" :call="act" :label="label" :hosts="measured?.hosts ?? []" @change="put" />
    <template v-else-if="act.kind === 'program'">
      <span class="flex items-center gap-2">
        <USelect
          :model-value="act.program"
          :items="programs"
          value-key="value"
          class="w-52"
          placeholder="choose one"
          :aria-label="`${label}: program`"
          @update:model-value="put({ program: $event })"
        />
        <UInput
          :model-value="text"
          class="mono flex-1"
          placeholder="arguments"
          :aria-label="`${label}: arguments`"
          @update:model-value="write"
        />
      </span>
      <span v-if="measured && programs.length === 0" class="soft">{{
        measured.folder
          ? `There is no program in ${measured.folder}.`
          : 'No program may be run here yet; an administrator names their folder in VESSEL_HOOK_FOLDER.'
      }}</span>
    </template>
  </div>
</template>
