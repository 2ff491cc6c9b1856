<script setup lang="ts">
import type { Unclaimed } from '~~/server/views'

const { unclaimed } = defineProps<{ unclaimed: Unclaimed[] }>()
const SHOWN = 5
const bytes = computed(() => unclaimed.reduce((sum, { bytes }) => sum + bytes, 0))
</script>

<template>
  <section>
    <h2 class="flex items-baseline justify-between border-b border-[var(--line)] pb-[7px]">
      <span class="font-semibold">Unclaimed</span>
      <span v-if="unclaimed.length > 0" class="soft s12">no vessel protects these {{ bytesInWords(bytes) }}</span>
    </h2>
    <p v-if="unclaimed.length === 0" class="soft py-3 text-[13px]">A vessel protects every table that was found.</p>
    <ul class="rule text-[13px]">
      <li v-for="thing in unclaimed.slice(0, SHOWN)" :key="thing.path" class="flex h-8 items-center gap-3" data-row>
        <NuxtLink :to="estateLink(thing.path)" class="mono cut flex-1 hover:underline">{{ thing.name }}</NuxtLink>
        <span class="num">{{ bytesInWords(thing.bytes) }}</span>
        <NuxtLink :to="`/vessels/new?take=${encodeURIComponent(thing.path)}`" class="lnk border-[var(--ink)]">Protect…</NuxtLink>
      </li>
    </ul>
    <NuxtLink v-if="unclaimed.length > SHOWN" to="/estate" class="soft s12 lnk">{{ unclaimed.length - SHOWN }} more</NuxtLink>
  </section>
</template>
