<script setup lang="ts">
import type { LookedRow, WholeRow } from '~~/server/views'

// One row with its whole values, at the side.
const { point, path } = defineProps<{ point: string; path: string; title: string }>()
const row = defineModel<LookedRow | null>({ required: true })
const open = computed({ get: () => row.value !== null, set: (value) => !value && (row.value = null) })
const { data, error } = useLoad<WholeRow>(
  () => (row.value ? `${pointUrl(point)}/row?path=${encodeURIComponent(path)}&at=${row.value.at.chunk}.${row.value.at.row}` : null),
  { tells: true },
)

interface Shown {
  kind: 'null' | 'json' | 'bytes' | 'text'
  text: string
  note: string
}
function shown(value: string | null, type: string, length: number | undefined): Shown {
  if (value === null) return { kind: 'null', text: 'null', note: '' }
  const cut = length === undefined ? '' : `the first ${bytesInWords(value.length)} of ${bytesInWords(length)}`
  if (type === 'bytea' && value.startsWith('\\x')) {
    const bytes = (length ?? value.length) / 2 - 1
    return { kind: 'bytes', text: hexOf(value.slice(2)), note: cut || bytesInWords(bytes) }
  }
  if (/^jsonb?$/.test(type)) {
    try {
      return { kind: 'json', text: JSON.stringify(JSON.parse(value), null, 2), note: cut }
    } catch {
      return { kind: 'text', text: value, note: cut }
    }
  }
  return {
    kind: 'text',
    text: value,
    note: cut || (value.length > 80 ? `${countInWords(value.length)} characters` : value === '' ? 'empty' : ''),
  }
}
const SHOWN_BYTES = 1024
/** Sixteen bytes a line: where they lie, the bytes, and the letters among them. */
function hexOf(hex: string): string {
  const lines = []
  for (let at = 0; at < Math.min(hex.length, SHOWN_BYTES * 2); at += 32) {
    const bytes = hex.slice(at, at + 32).match(/../g) ?? []
    const letters = bytes.map((byte) => {
      const code = Number.parseInt(byte, 16)
      return code >= 32 && code < 127 ? String.fromCharCode(code) : '·'
    })
    lines.push(`${(at / 2).toString(16).padStart(6, '0')}  ${bytes.join(' ').padEnd(48)} ${letters.join('')}`)
  }
  return lines.join('\n') + (hex.length > SHOWN_BYTES * 2 ? '\n…' : '')
}
</script>

<template>
  <USlideover v-model:open="open" :title="title" description="One row as it was, with its whole values." :ui="{ content: 'max-w-[640px]' }">
    <template #body>
      <ErrorNote v-if="error" :error="error" />
      <div v-else-if="!data" class="grid gap-2"><USkeleton v-for="i in 8" :key="i" class="h-6" /></div>
      <dl v-else class="rule text-[13px]" data-whole-row>
        <div v-for="(column, i) in data.columns" :key="column.name" class="grid grid-cols-[170px_minmax(0,1fr)_24px] gap-x-4 py-2">
          <dt class="min-w-0 leading-[16px]">
            <span class="mono block break-words">{{ column.name }}</span>
            <span class="soft block text-[11px] break-words">{{ column.type }}</span>
          </dt>
          <dd class="min-w-0">
            <span v-if="data.fields[i] === null" class="soft">∅ null</span>
            <pre
              v-else
              class="mono max-h-72 overflow-auto text-[12.5px] break-words"
              :class="shown(data.fields[i]!, column.type, data.cut[i]).kind === 'bytes' ? 'whitespace-pre' : 'whitespace-pre-wrap'"
              >{{ shown(data.fields[i]!, column.type, data.cut[i]).text }}</pre>
            <span class="soft text-[11px]">{{ shown(data.fields[i] ?? null, column.type, data.cut[i]).note }}</span>
          </dd>
          <CopyIt v-if="data.fields[i]" icon :text="data.fields[i]!" :label="`Copy ${column.name}`" class="self-start" />
        </div>
      </dl>
    </template>
  </USlideover>
</template>
