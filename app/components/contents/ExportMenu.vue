<script setup lang="ts">
import type { Condition } from '~~/core/look/filter'
import { FORMATS, type Format } from '~~/core/look/formats'
import { lastName } from '~~/core/things/thing'

// Takes a table, chosen rows or a schema out as a file. The browser keeps it; the server tells how far it is.
const { point, path, keys, filter } = defineProps<{
  point: string
  path: string
  keys: string[][]
  filter: Condition[]
}>()
const WORD: Record<Format, string> = { sql: 'SQL', csv: 'CSV', jsonl: 'JSON Lines' }
const progress = ref<{ token: string; rows: number; of: number; over: boolean } | null>(null)
onEvent((change) => {
  if (change.about === 'export' && change.id === progress.value?.token) progress.value = { ...progress.value, ...change }
})
function take(what: string, format: Format, some: boolean) {
  const token = crypto.randomUUID()
  progress.value = { token, rows: 0, of: 0, over: false }
  const query = new URLSearchParams({ path: what, format, token })
  if (some && keys.length > 0) query.set('keys', JSON.stringify(keys))
  else if (some && filter.length > 0) query.set('filter', JSON.stringify(filter))
  const link = document.createElement('a')
  link.href = `${pointUrl(point)}/export?${query}`
  link.download = ''
  link.click()
}
const schema = computed(() => path.split('/').slice(0, 3).join('/'))
const items = computed(() => {
  const group = (label: string, what: string, some: boolean) => [
    { label, type: 'label' as const },
    ...FORMATS.map((format) => ({ label: WORD[format], onSelect: () => take(what, format, some) })),
  ]
  const chosen = keys.length > 0 ? plural(keys.length, 'picked row') : filter.length > 0 ? 'Filtered rows' : null
  return [
    ...(chosen ? [group(chosen, path, true)] : []),
    group(`The table ${lastName(path)}`, path, false),
    group(`The schema ${lastName(schema.value)}`, schema.value, false),
  ]
})
</script>

<template>
  <div class="flex items-center gap-3">
    <span v-if="progress" class="soft text-[12px]" aria-live="polite" data-export>
      <template v-if="progress.over">{{ plural(progress.rows, 'row') }} exported</template>
      <template v-else-if="progress.of > 0">{{ countInWords(progress.rows) }} of {{ countInWords(progress.of) }} rows</template>
      <template v-else>exporting…</template>
    </span>
    <UDropdownMenu :items="items" :ui="{ content: 'w-56' }"><UButton size="sm">Export…</UButton></UDropdownMenu>
  </div>
</template>
