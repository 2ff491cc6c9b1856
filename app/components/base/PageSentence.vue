<script setup lang="ts">
// The sentence that opens a page; on one line.
withDefaults(defineProps<{ large?: boolean }>(), { large: false })
</script>

<template>
  <h1 class="sentence font-serif tracking-[-0.008em]" :class="large ? 'text-[28px] leading-9' : 'text-[24px] leading-8'"><slot /></h1>
</template>

<style>
.sentence a,
.sentence u {
  text-decoration: none;
  border-bottom: 2px solid var(--edge);
}
</style>
