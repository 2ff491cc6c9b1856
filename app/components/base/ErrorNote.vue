<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'

const { error } = defineProps<{ error: ErrorRecord }>()
const said = computed(() => [error.code, error.what, error.touched, error.next].join('\n'))
</script>

<template>
  <div role="alert" class="flex gap-2.5 border-l-2 border-[var(--error)] bg-[var(--error-wash)] px-3 py-2 text-[13px] leading-[18px]">
    <UIcon name="i-lucide-circle-alert" class="error mt-px size-4 shrink-0" />
    <div class="min-w-0 break-words">
      <p class="font-medium">{{ error.what }}</p>
      <p class="soft">{{ error.touched }}</p>
      <p>{{ error.next }} <CopyIt icon :text="said" label="Copy what this says" /></p>
    </div>
  </div>
</template>
