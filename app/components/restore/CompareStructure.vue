<script setup lang="ts">
import type { StructureLine, TableComparison } from '~~/server/views'

const { comparison } = defineProps<{ comparison: TableComparison }>()
const onlyDifferences = ref(false)
const groups = computed(() => {
  const lines = comparison.structure.filter((line) => !onlyDifferences.value || line.mark !== 'same')
  return [...new Set(lines.map((line) => line.what))].map((what) => ({ what, lines: lines.filter((line) => line.what === what) }))
})
const differences = computed(() => comparison.structure.filter((line) => line.mark !== 'same').length)
const SIGN: Record<StructureLine['mark'], { word: string; color: string }> = {
  same: { word: '', color: 'var(--soft)' },
  changed: { word: 'changed', color: 'var(--warning-text)' },
  gone: { word: 'gone', color: 'var(--error)' },
  new: { word: 'new', color: 'var(--glaze)' },
}
</script>

<template>
  <div class="min-h-0 overflow-y-auto px-4 pb-4 text-[13px]">
    <div class="flex h-8 items-center justify-between">
      <span v-if="!comparison.now" class="error font-semibold">It is not there now.</span>
      <span v-else-if="differences === 0">The structure is the same then and now.</span>
      <span v-else class="warning font-semibold">{{ plural(differences, 'difference') }}</span>
      <UCheckbox v-if="comparison.now && differences > 0" v-model="onlyDifferences" label="only differences" />
    </div>
    <template v-for="{ what, lines } in groups" :key="what">
      <h3 class="soft border-b border-[var(--line)] pt-2 pb-1 text-[12px]">{{ what }}</h3>
      <div
        v-for="line in lines"
        :key="line.name"
        class="grid grid-cols-[minmax(90px,0.7fr)_minmax(0,1.4fr)_64px] gap-x-3 border-b border-[var(--line)] py-1.5"
      >
        <span class="mono break-words">{{ line.name }}</span>
        <span class="mono min-w-0 break-words text-[12px]">
          <span :class="line.mark === 'same' ? 'soft' : ''">{{ line.before ?? '' }}</span>
          <span v-if="line.mark === 'changed' || line.mark === 'new'" class="block" :style="{ color: SIGN[line.mark].color }"
            >now: {{ line.now }}</span
          >
        </span>
        <span class="text-right text-[12px]" :style="{ color: SIGN[line.mark].color }">{{
          comparison.now ? SIGN[line.mark].word : ''
        }}</span>
      </div>
    </template>
  </div>
</template>
