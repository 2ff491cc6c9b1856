<script setup lang="ts">
import { OPS, type Condition, type Op } from '~~/core/look/filter'

// Conditions on columns; all of them have to hold.
const { columns } = defineProps<{ columns: { name: string; type: string }[] }>()
const filter = defineModel<Condition[]>({ required: true })
const draft = reactive<Condition>({ column: '', op: '=', value: '' })
watch(
  () => columns.map(({ name }) => name).join(),
  () => {
    if (!columns.some(({ name }) => name === draft.column)) draft.column = columns[0]?.name ?? ''
  },
  { immediate: true },
)
const needsValue = computed(() => !draft.op.startsWith('is '))
function add() {
  if (!draft.column || (needsValue.value && draft.value === '')) return
  filter.value = [...filter.value, { ...draft, value: needsValue.value ? draft.value : '' }]
  draft.value = ''
}
const remove = (index: number) => (filter.value = filter.value.filter((_, i) => i !== index))
</script>

<template>
  <form class="flex min-h-[42px] shrink-0 flex-wrap items-center gap-2 border-b border-[var(--line)] px-4 py-1.5" @submit.prevent="add">
    <span class="soft">Rows where</span>
    <span
      v-for="(condition, i) in filter"
      :key="i"
      class="flex h-[26px] items-center gap-1.5 rounded-[4px] border border-[var(--edge)] bg-[var(--ground)] pl-2"
      data-condition
    >
      <span class="mono">{{ condition.column }}</span> {{ condition.op }}
      <span v-if="condition.value" class="mono max-w-40 truncate">{{ condition.value }}</span>
      <button
        type="button"
        class="grid h-full w-6 place-items-center"
        :aria-label="`Without ${condition.column} ${condition.op}`"
        @click="remove(i)"
      >
        <UIcon name="i-lucide-x" class="size-3" />
      </button>
    </span>
    <USelectMenu v-model="draft.column" :items="columns.map(({ name }) => name)" size="sm" class="w-40" aria-label="Column" />
    <USelect v-model="draft.op as Op" :items="[...OPS]" size="sm" class="w-28" aria-label="Comparison" />
    <UInput v-if="needsValue" v-model="draft.value" name="filter-value" size="sm" class="w-44" aria-label="Value" placeholder="value" />
    <UButton type="submit" size="sm">{{ filter.length > 0 ? 'and' : 'Filter' }}</UButton>
  </form>
</template>
