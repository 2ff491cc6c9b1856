<script setup lang="ts">
// A strip above every page, for what must not be missed.
defineProps<{ icon: string }>()
</script>

<template>
  <div role="alert" class="flex min-h-9 items-center gap-3 bg-[var(--error)] px-6 py-1.5 text-[13px] text-[var(--on-fill)]">
    <UIcon :name="icon" class="size-4 shrink-0" />
    <slot />
  </div>
</template>
