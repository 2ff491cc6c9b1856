<script setup lang="ts">
// A figure against its promise: the tick is the promise, what lies over it is hatched.
const { value, promise } = defineProps<{ value: number | null; promise: number | null }>()
const WIDTH = 66
const share = computed(() => (value === null || promise === null ? null : value / promise))
const length = computed(() => (share.value === null ? 0 : Math.min(1, share.value) * WIDTH))
const color = computed(() =>
  share.value === null || share.value <= 0.8 ? 'var(--ink)' : share.value <= 1 ? 'var(--warning)' : 'var(--error)',
)
</script>

<template>
  <div class="whitespace-nowrap">
    <div v-if="value === null" class="soft">never</div>
    <div v-else>
      <span class="font-semibold" :style="{ color: share !== null && share > 1 ? 'var(--error)' : undefined }">{{
        durationInWords(value)
      }}</span>
      <span v-if="promise !== null" class="soft"> of {{ durationInWords(promise) }}</span>
    </div>
    <svg v-if="share !== null" :width="WIDTH + 28" height="9" class="mt-0.5 block" aria-hidden="true">
      <line x1="0" :x2="WIDTH" y1="4.5" y2="4.5" stroke="var(--line-strong)" />
      <line x1="0" :x2="length" y1="4.5" y2="4.5" :stroke="color" stroke-width="3" />
      <rect v-if="share > 1" :x="WIDTH" y="2" width="26" height="5" fill="url(#hatch)" />
      <line :x1="WIDTH" :x2="WIDTH" y1="0" y2="9" stroke="var(--ink)" stroke-width="1.2" />
    </svg>
  </div>
</template>
