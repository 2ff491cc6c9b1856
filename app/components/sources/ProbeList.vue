<script setup lang="ts">
import type { ProbeFinding } from '~~/server/views'

defineProps<{ findings: ProbeFinding[] }>()
const LOOK = {
  ok: { icon: 'i-lucide-check', color: 'var(--glaze)', word: 'there' },
  advice: { icon: 'i-lucide-triangle-alert', color: 'var(--warning-text)', word: 'better with it' },
  missing: { icon: 'i-lucide-x', color: 'var(--error)', word: 'missing' },
} as const
</script>

<template>
  <ul class="rule border-y border-[var(--line)] text-[13px]">
    <li v-for="finding in findings" :key="finding.id" class="flex gap-2 py-1.5" :data-finding="finding.id" :data-outcome="finding.outcome">
      <UIcon
        :name="LOOK[finding.outcome].icon"
        class="mt-0.5 size-3.5 shrink-0"
        :style="{ color: LOOK[finding.outcome].color }"
        :aria-label="LOOK[finding.outcome].word"
      />
      <div class="min-w-0 flex-1">
        <b class="font-medium">{{ finding.title }}.</b>{{ ' ' }}
        <span class="break-words" :class="{ soft: finding.outcome === 'ok' }">{{ finding.detail }}</span>
        <p v-if="finding.mend" class="mt-1 flex items-start gap-2">
          <code class="mono min-w-0 flex-1 bg-[var(--wash)] px-1.5 py-0.5 text-[12px] break-words whitespace-pre-wrap">{{
            finding.mend
          }}</code><CopyIt :text="finding.mend" :label="`Copy what mends it: ${finding.title}`" />
        </p>
      </div>
    </li>
  </ul>
</template>
