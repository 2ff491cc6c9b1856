<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'

// A text that is read and copied, such as statements or a manifest; how it is set is the caller's.
const { text } = defineProps<{ text: string | undefined; error: ErrorRecord | null }>()
</script>

<template>
  <div class="relative min-h-0 flex-1 overflow-auto">
    <ErrorNote v-if="error" :error="error" class="m-4" />
    <div v-else-if="text === undefined" class="grid gap-2 p-4"><USkeleton v-for="i in 10" :key="i" class="h-4" /></div>
    <template v-else>
      <CopyIt :text="text" label="Copy all of it" class="absolute top-3 right-4 bg-[var(--sheet)] px-1.5" />
      <pre class="mono px-4 py-3 text-[12.5px] leading-[19px] whitespace-pre-wrap"><slot /></pre>
    </template>
  </div>
</template>
