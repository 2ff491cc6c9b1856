<script setup lang="ts">
import { rowKey } from '~~/core/compare/rows'
import { copyText } from '~~/core/content/copy-text'
import { insertWriter, updateStatement } from '~~/core/look/formats'
import { namesOf } from '~~/core/things/thing'
import type { TableComparison } from '~~/server/views'

// What is done with the rows that are ticked, and the statements that would do the same by hand.
const { comparison } = defineProps<{ comparison: TableComparison; changed: boolean }>()
const bench = useWorkbench()
defineEmits<{ none: []; all: [] }>()
const pick = computed(() => bench.choices.rows[comparison.path]!)
const others = computed(() => comparison.columns.filter((column) => !comparison.key?.includes(column)))
const overwrite = computed({
  get: () => pick.value.overwrite ?? [],
  set: (columns: string[]) => bench.pickRows(comparison.path, { ...pick.value, overwrite: columns.length > 0 ? columns : null }),
})
const open = ref(false)
const statements = computed(() => {
  const [, , schema, name] = namesOf(comparison.path)
  const target = { schema: schema!, name: name! }
  const at = comparison.key!.map((column) => comparison.columns.indexOf(column))
  const wanted = new Set(pick.value.keys.map(rowKey))
  const insert = insertWriter(target, comparison.columns)
  return (comparison.rows?.rows ?? [])
    .filter(({ before }) => before && wanted.has(rowKey(at.map((i) => before[i] ?? ''))))
    .flatMap(({ mark, before }) => {
      if (mark === 'gone') return [insert(before!.map(copyText).join('\t')).trimEnd()]
      return pick.value.overwrite ? [updateStatement(target, comparison.columns, before!, comparison.key!, pick.value.overwrite)] : []
    })
})
</script>

<template>
  <div
    class="flex min-h-9 shrink-0 flex-wrap items-center gap-x-4 gap-y-1 border-b border-[var(--line)] bg-[var(--glaze-wash)] px-4 py-1"
    data-row-picks
  >
    <b class="font-semibold">{{ plural(pick.keys.length, 'row') }} picked</b>
    <span v-if="changed" class="flex items-center gap-2"
      ><span class="soft">overwrite</span>
      <USelectMenu
        v-model="overwrite"
        multiple
        :items="others"
        size="xs"
        class="w-52"
        placeholder="nothing"
        aria-label="Columns to overwrite"
      />
    </span>
    <button class="lnk" @click="$emit('all')">Tick all that are listed</button>
    <button class="lnk" @click="open = true">Show the statements</button>
    <button class="lnk ml-auto" @click="$emit('none')">Untick all</button>
    <USlideover
      v-model:open="open"
      title="Statements"
      description="What restoring the picked rows does, as it would be written by hand."
      :ui="{ content: 'max-w-[720px]' }"
    >
      <template #body>
        <pre class="mono text-[12px] leading-[18px] whitespace-pre-wrap" data-statements>{{
          statements.join('\n') || 'Nothing would be written.'
        }}</pre>
      </template>
    </USlideover>
  </div>
</template>
