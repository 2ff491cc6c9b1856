<script setup lang="ts">
import { tokensOf } from '~~/core/restore/sql'

const { point, path } = defineProps<{ point: string; path: string }>()
const { data, error } = useLoad<{ sql: string }>(() => `${pointUrl(point)}/ddl?path=${encodeURIComponent(path)}`, {
  tells: true,
})
const KEYWORD = /^[A-Z][A-Z_]+$/
/** Keywords recede, names stand out; strings and comments keep their own ink. */
const tokens = computed(() =>
  tokensOf(data.value?.sql ?? '').map(({ kind, text }) => ({
    text,
    class: kind === 'word' && KEYWORD.test(text) ? 'soft' : kind === 'string' || kind === 'dollar' ? 'glaze' : '',
  })),
)
</script>

<template>
  <CopyableText :text="data?.sql" :error="error"
    ><span data-ddl
      ><span v-for="(token, i) in tokens" :key="i" :class="token.class">{{ token.text }}</span></span
    ></CopyableText
  >
</template>
