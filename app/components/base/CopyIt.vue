<script setup lang="ts">
import { useClipboard } from '@vueuse/core'

// Copies a text, and says whether that worked: a browser may refuse it.
const { text, label = 'Copy', icon = false } = defineProps<{ text: string; label?: string; icon?: boolean }>()
const SHOWN_MS = 2000
const { copy } = useClipboard({ legacy: true })
const outcome = ref<'copied' | 'not copied' | null>(null)
async function put() {
  outcome.value = await copy(text).then(
    () => 'copied' as const,
    () => 'not copied' as const,
  )
  setTimeout(() => (outcome.value = null), SHOWN_MS)
}
</script>

<template>
  <button
    type="button"
    class="inline-flex shrink-0 items-center gap-1 text-[12px]"
    :class="icon ? 'align-[-2px] hover:text-[var(--ink)]' : 'lnk'"
    :aria-label="label"
    :title="label"
    data-copy
    @click.stop="put"
  >
    <UIcon
      v-if="icon"
      :name="outcome === 'copied' ? 'i-lucide-check' : outcome ? 'i-lucide-x' : 'i-lucide-copy'"
      class="size-3.5"
      :class="outcome === 'not copied' ? 'error' : 'soft'"
    />
    <span :class="{ 'sr-only': icon && outcome !== 'not copied' }" role="status">{{ outcome ?? (icon ? '' : 'copy') }}</span>
  </button>
</template>
