<script setup lang="ts">
import { namesOf } from '~~/core/things/thing'

// Volumes that are read from a folder, most often one that a step returned, and not from their roots.
const draft = useDraft()
const quiesce = computed(() => draft.definition.quiesce)
const volumes = computed(() => draft.selection?.volumes ?? [])
const reads = computed(() => quiesce.value.reads ?? [])
const items = computed(() =>
  [...new Set([...volumes.value, ...reads.value.map(({ volume }) => volume)])].map((value) => {
    const [, namespace, , name] = namesOf(value)
    return { value, label: `${namespace} / ${name}` }
  }),
)
const free = computed(() => volumes.value.filter((path) => !reads.value.some(({ volume }) => volume === path)))
// What copies within a volume is most often a command in a container.
const example = computed(() => {
  const { steps } = quiesce.value
  return `{${(steps.findLast(({ act }) => act.kind === 'exec') ?? steps[0])?.name ?? 'step'}.folder}`
})

function add() {
  quiesce.value.reads = [...reads.value, { volume: free.value[0]!, folder: '' }]
}
function remove(at: number) {
  const rest = reads.value.filter((_, i) => i !== at)
  // Nothing is written of what is not used.
  if (rest.length > 0) quiesce.value.reads = rest
  else delete quiesce.value.reads
}
</script>

<template>
  <div v-if="items.length > 0" class="grid grid-cols-[160px_1fr] gap-3 border-b border-[var(--line)] py-1.5 text-[13px]" data-reads>
    <span class="pt-1.5">Volumes</span>
    <div class="grid gap-1.5">
      <p v-for="(read, i) in reads" :key="i" class="flex items-center gap-3" data-read>
        <USelect v-model="read.volume" :items="items" value-key="value" class="w-48 shrink-0" aria-label="Volume" />
        <span class="soft shrink-0">from the folder</span>
        <UInput
          v-model="read.folder"
          class="mono min-w-0 flex-1"
          :maxlength="4000"
          :placeholder="example"
          aria-label="Folder that it is read from"
        />
        <button type="button" class="lnk ml-auto shrink-0" @click="remove(i)">All of it</button>
      </p>
      <p v-if="free.length > 0" class="flex min-h-8 items-center gap-3">
        <span class="soft">{{ reads.length === 0 ? 'All are read whole.' : 'All others are read whole.' }}</span>
        <button type="button" class="lnk" data-add-read @click="add">Read one from a folder that a step returns</button>
      </p>
    </div>
  </div>
</template>
