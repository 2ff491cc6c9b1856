<script setup lang="ts">
import { tokensOf } from '~~/core/restore/sql'

const { point, path } = defineProps<{ point: string; path: string }>()
const { data, error } = useLoad<{ sql: string }>(() => `/api/points/${encodeURIComponent(point)}/ddl?path=${encodeURIComponent(path)}`)
const KEYWORD = /^[A-Z][A-Z_]+$/
/** Keywords recede, names stand out; strings and comments keep their own ink. */
const tokens = computed(() =>
  tokensOf(data.value?.sql ?? '').map(({ kind, text }) => ({
    text,
    class: kind === 'word' && KEYWORD.test(text) ? 'soft' : kind === 'string' || kind === 'dollar' ? 'glaze' : '',
  })),
)
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(data.value!.sql)
  copied.value = true
  setTimeout(() => (copied.value = false), 1500)
}
</script>

<template>
  <div class="relative min-h-0 flex-1 overflow-auto">
    <ErrorNote v-if="error" :error="error" class="m-4" />
    <div v-else-if="!data" class="grid gap-2 p-4"><USkeleton v-for="i in 10" :key="i" class="h-4" /></div>
    <template v-else>
      <UButton size="sm" class="absolute top-3 right-4" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</UButton>
      <pre
        class="mono px-4 py-3 text-[12.5px] leading-[19px] whitespace-pre-wrap"
        data-ddl
      ><span v-for="(token, i) in tokens" :key="i" :class="token.class">{{ token.text }}</span></pre>
    </template>
  </div>
</template>
