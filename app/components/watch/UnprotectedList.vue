<script setup lang="ts">
import type { Unprotected } from '~~/server/views'

const { unprotected } = defineProps<{ unprotected: Unprotected[] }>()
const SHOWN = 5
const bytes = computed(() => unprotected.reduce((sum, { bytes }) => sum + bytes, 0))
</script>

<template>
  <section>
    <h2 class="flex items-baseline justify-between border-b border-[var(--line)] pb-[7px]">
      <span class="font-semibold">Unprotected</span>
      <span v-if="unprotected.length > 0" class="soft s12">no vessel protects these {{ bytesInWords(bytes) }}</span>
    </h2>
    <p v-if="unprotected.length === 0" class="soft py-3 text-[13px]">A vessel protects every table that was found.</p>
    <ul class="rule text-[13px]">
      <li v-for="thing in unprotected.slice(0, SHOWN)" :key="thing.path" class="flex h-8 items-center gap-3" data-row>
        <NuxtLink :to="thingLink(thing.path)" class="mono cut flex-1 hover:underline">{{ thing.name }}</NuxtLink>
        <span class="soft s12 shrink-0" :title="`Its newest was found ${fullOf(thing.since)}`">since {{ dayOf(thing.since) }}</span>
        <span class="num">{{ bytesInWords(thing.bytes) }}</span>
        <NuxtLink :to="`/vessels/new?take=${encodeURIComponent(thing.path)}`" class="lnk border-[var(--ink)]">Protect…</NuxtLink>
      </li>
    </ul>
    <NuxtLink v-if="unprotected.length > SHOWN" to="/sources" class="soft s12 lnk">{{ unprotected.length - SHOWN }} more</NuxtLink>
  </section>
</template>
